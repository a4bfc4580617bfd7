from django.db import migrations

from stonekettle.server.sealed import sweeping


class Migration(migrations.Migration):
    dependencies = [("journeys", "0003_sealed")]
    atomic = False  # pages are written anew outside transactions
    operations = [sweeping("journeys_journeyrevision"), sweeping("journeys_recordedanswer")]
