import gzip

import django.db.models.deletion
from django.db import migrations, models

from stonekettle.plan.feed import rows_of
from stonekettle.server.feeds.models import pieces_of
from stonekettle.server.sealed import SealedJSONField, SealedTextField, sealing


def into_pieces(registry, editor):
    files, pieces = (registry.get_model("feeds", name).objects for name in ("FeedFile", "FeedPiece"))
    for digest in list(files.values_list("pk", flat=True)):
        content = files.values_list("content", flat=True).get(pk=digest)
        header, *texts = pieces_of(rows_of(gzip.decompress(bytes(content)).decode()))
        files.filter(pk=digest).update(header=header)
        for number, text in enumerate(texts):
            pieces.create(file_id=digest, number=number, content=text)


class Migration(migrations.Migration):
    dependencies = [("feeds", "0001_initial")]
    operations = [
        *sealing("feeds", "feedrevision", "document", SealedJSONField(), lambda value: value),
        migrations.AddField("feedfile", "header", SealedTextField(null=True)),
        migrations.CreateModel(
            name="FeedPiece",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("number", models.PositiveIntegerField()),
                ("content", SealedTextField()),
                (
                    "file",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="pieces", to="feeds.feedfile"
                    ),
                ),
            ],
            options={
                "ordering": ("number",),
                "constraints": [models.UniqueConstraint(fields=("file", "number"), name="one_piece_per_number")],
            },
        ),
        migrations.RunPython(into_pieces, migrations.RunPython.noop),
        migrations.RemoveField("feedfile", "content"),
        migrations.AlterField("feedfile", "header", SealedTextField()),
    ]
