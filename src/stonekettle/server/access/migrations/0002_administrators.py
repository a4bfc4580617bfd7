from django.conf import settings
from django.db import migrations


def appoint(apps, schema_editor):
    """Who was here before there were roles could do everything, and still can."""
    users = apps.get_model(*settings.AUTH_USER_MODEL.split("."))
    person = apps.get_model("access", "Person")
    for user in users.objects.filter(person=None):
        person.objects.create(user=user, role="administrator")


class Migration(migrations.Migration):
    dependencies = [("access", "0001_initial")]
    operations = [migrations.RunPython(appoint, migrations.RunPython.noop)]
