from django.db import migrations

from stonekettle.server.sealed import SealedJSONField, SealedTextField, sealing


class Migration(migrations.Migration):
    dependencies = [("journeys", "0002_recordedanswer")]
    operations = [
        *sealing("journeys", "journeyrevision", "document", SealedJSONField(), lambda value: value),
        *sealing("journeys", "recordedanswer", "body", SealedTextField(), lambda value: value),
    ]
