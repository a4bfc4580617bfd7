from django.db import migrations

from stonekettle.server.sealed import SealedJSONField, sealing


class Migration(migrations.Migration):
    dependencies = [("runs", "0002_metrics")]
    operations = [
        *sealing("runs", "run", "plan_document", SealedJSONField(), lambda value: value),
    ]
