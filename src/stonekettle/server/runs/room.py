"""What a run takes in the database."""

from __future__ import annotations

from django.db.models import F, Func, IntegerField, Model, Sum
from ninja import Schema

from stonekettle.server.runs.models import (
    GeneratorSecond,
    KeptRequest,
    MeterScrape,
    MeterSecond,
    MetricsFile,
    RecordBundle,
    Run,
    RunSecond,
    Trace,
)


class Room(Schema):
    """Bytes a run takes as it is stored: requests one by one, its seconds, and what its meters read."""

    requests: int
    seconds: int
    metrics: int


def of(run: Run) -> Room:
    """The room a run takes now."""
    return Room(
        requests=_stored(RecordBundle, {"run": run}, "content")
        + _stored(KeptRequest, {"run": run}, "texts")
        + _stored(Trace, {"run": run}, "spans")
        + _stored(GeneratorSecond, {"generator__run": run}, "records", "rollup", "histograms"),
        seconds=_stored(RunSecond, {"run": run}, "figures", "told", "histograms"),
        metrics=_stored(MeterScrape, {"run": run}, "chunk")
        + _stored(MeterSecond, {"run": run}, "values", "events")
        + _stored(MetricsFile, {"run": run}, "chunk"),
    )


def _stored(model: type[Model], rows: dict[str, object], *columns: str) -> int:
    """Bytes that these columns take, packed as the database keeps them."""
    sizes = {
        f"size_of_{name}": Sum(Func(F(name), function="pg_column_size", output_field=IntegerField()))
        for name in columns
    }
    found = model._default_manager.filter(**rows).aggregate(**sizes)
    return sum(size or 0 for size in found.values())
