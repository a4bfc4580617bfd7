from django.db import migrations, models

from stonekettle.plan.references import mentions


def refer(apps, schema_editor):
    """What each text names, by what bears that name today."""
    known = {
        "system": dict(apps.get_model("systems", "System").objects.values_list("name", "pk")),
        "journey": dict(apps.get_model("journeys", "Journey").objects.values_list("name", "pk")),
        "feed": dict(apps.get_model("feeds", "Feed").objects.values_list("name", "pk")),
    }
    for revision in apps.get_model("experiments", "Revision").objects.all():
        found = {}
        for mention in mentions(revision.source):
            if mention.name in known[mention.kind]:
                found.setdefault(mention.kind, {})[mention.name] = known[mention.kind][mention.name]
        revision.references = found
        revision.save(update_fields=["references"])


class Migration(migrations.Migration):
    dependencies = [("experiments", "0004_swept"), ("journeys", "0006_references")]
    operations = [
        migrations.AddField("revision", "references", models.JSONField(default=dict)),
        migrations.RunPython(refer, migrations.RunPython.noop),
    ]
