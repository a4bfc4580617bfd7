from django.db import migrations

from stonekettle.server.sealed import sweeping


class Migration(migrations.Migration):
    dependencies = [("experiments", "0003_sealed")]
    atomic = False  # pages are written anew outside transactions
    operations = [sweeping("experiments_revision")]
