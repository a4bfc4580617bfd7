from django.db import migrations

from stonekettle.server.sealed import SealedJSONField, sealing


class Migration(migrations.Migration):
    dependencies = [("systems", "0001_initial")]
    operations = [
        *sealing("systems", "systemrevision", "document", SealedJSONField(), lambda value: value),
    ]
