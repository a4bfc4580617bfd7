"""Figures per request were of steps all the time, and are called so now."""

from django.db import migrations

BEFORE, AFTER = "per request", "per step"


def renamed(before, after):
    def rename(apps, schema_editor):
        for system in apps.get_model("systems", "System").objects.all():
            if any(pin.get("figure") == before for pin in system.pins):
                system.pins = [{**pin, "figure": after} if pin.get("figure") == before else pin for pin in system.pins]
                system.save(update_fields=["pins"])

    return rename


class Migration(migrations.Migration):
    dependencies = [("systems", "0004_editor")]
    operations = [migrations.RunPython(renamed(BEFORE, AFTER), renamed(AFTER, BEFORE))]
