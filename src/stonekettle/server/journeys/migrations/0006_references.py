from django.db import migrations, models


def refer(apps, schema_editor):
    """What each document names, by what bears that name today."""
    systems = dict(apps.get_model("systems", "System").objects.values_list("name", "pk"))
    feeds = dict(apps.get_model("feeds", "Feed").objects.values_list("name", "pk"))
    for revision in apps.get_model("journeys", "JourneyRevision").objects.all():
        system, named = revision.document.get("system"), revision.document.get("feeds", [])
        found = {
            "system": {system: systems[system]} if system in systems else {},
            "feed": {feed: feeds[feed] for feed in named if feed in feeds},
        }
        revision.references = {kind: told for kind, told in found.items() if told}
        revision.save(update_fields=["references"])


class Migration(migrations.Migration):
    dependencies = [("journeys", "0005_editor"), ("systems", "0006_keeping"), ("feeds", "0004_editor")]
    operations = [
        migrations.AddField("journeyrevision", "references", models.JSONField(default=dict)),
        migrations.RunPython(refer, migrations.RunPython.noop),
    ]
