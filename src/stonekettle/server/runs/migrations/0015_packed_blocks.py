import django.db.models.deletion
import numpy as np
from django.db import migrations, models


def pack(apps, schema_editor):
    """The lists that stood in each row, run by run."""
    fact, blocks = apps.get_model("runs", "RunFact"), apps.get_model("runs", "RunBlocks")
    for run_id in fact.objects.order_by().values_list("run_id", flat=True).distinct():
        lists = list(fact.objects.filter(run_id=run_id).order_by("pk").values_list("blocks", flat=True))
        lengths = np.array([len(one) for one in lists], dtype="<u4")
        values = np.array([np.nan if v is None else v for one in lists for v in one], dtype="<f4")
        blocks.objects.create(run_id=run_id, lengths=lengths.tobytes(), blocks=values.tobytes())


class Migration(migrations.Migration):
    dependencies = [("runs", "0014_turn")]

    operations = [
        migrations.CreateModel(
            name="RunBlocks",
            fields=[
                (
                    "run",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE,
                        primary_key=True,
                        related_name="fact_blocks",
                        serialize=False,
                        to="runs.run",
                    ),
                ),
                ("lengths", models.BinaryField()),
                ("blocks", models.BinaryField()),
            ],
        ),
        migrations.RunPython(pack, migrations.RunPython.noop),
        migrations.RemoveField(model_name="runfact", name="blocks"),
    ]
