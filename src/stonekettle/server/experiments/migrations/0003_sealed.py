from django.db import migrations

from stonekettle.server.sealed import SealedJSONField, SealedTextField, sealing


class Migration(migrations.Migration):
    dependencies = [("experiments", "0002_experiment_system")]
    operations = [
        *sealing("experiments", "revision", "document", SealedJSONField(), lambda value: value),
        *sealing("experiments", "revision", "source", SealedTextField(), lambda value: value),
    ]
