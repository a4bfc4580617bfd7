from django.db import migrations

from stonekettle.server.sealed import sweeping


class Migration(migrations.Migration):
    dependencies = [("feeds", "0002_sealed")]
    atomic = False  # pages are written anew outside transactions
    operations = [sweeping("feeds_feedrevision"), sweeping("feeds_feedfile")]
