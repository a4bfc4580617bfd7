import gzip

from django.db import migrations

from stonekettle.server.sealed import SealedJSONField, SealedTextField, sealing


class Migration(migrations.Migration):
    dependencies = [("feeds", "0001_initial")]
    operations = [
        *sealing("feeds", "feedrevision", "document", SealedJSONField(), lambda value: value),
        *sealing("feeds", "feedfile", "content", SealedTextField(), lambda value: gzip.decompress(bytes(value)).decode()),
    ]
