"""Records of closed minutes become bundles; what generators told of their seconds, once in the run's, is let go."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pyarrow as pa
from django.db import transaction
from django.db.models import Max

from stonekettle.engine import bundles, records
from stonekettle.server.runs.models import GeneratorSecond, RecordBundle, Run

MINUTE_S = 60
MARGIN_S = 15
"""So long after a minute's end its seconds have come; those that come later are a bundle of their own."""


def compact(run_id: int, *, everything: bool = True) -> int:
    """Bundle the seconds that are merged: closed minutes only, unless ``everything``; how many bundles."""
    waiting = GeneratorSecond.objects.filter(generator__run_id=run_id, merged=True, bundled=False)
    if not everything:
        newest = waiting.aggregate(last=Max("second"))["last"]
        waiting = waiting.filter(second__lt=((newest or 0) - MARGIN_S) // MINUTE_S * MINUTE_S)
    made = 0
    while (first := waiting.order_by("second").values_list("second", flat=True).first()) is not None:
        minute = first // MINUTE_S * MINUTE_S
        made += _bundle(run_id, waiting.filter(second__gte=minute, second__lt=minute + MINUTE_S))
    return made


@transaction.atomic
def _bundle(run_id: int, rows: Any) -> int:
    """One minute's bundle. Rows stay, emptied: a generator that is not sure whether a second was saved tells it again,
    and must find it there."""
    Run.objects.select_for_update(of=("self",)).only("pk").get(pk=run_id)
    told = list(rows.values_list("pk", "second", "records"))
    some = [(second, records.from_table(records.from_chunk(bytes(chunk)))) for _, second, chunk in told if chunk]
    if some:
        packed = bundles.pack([found for _, found in some], [second for second, _ in some])
        RecordBundle.objects.create(
            run_id=run_id,
            first_second=packed.first_second,
            last_second=packed.last_second,
            rows=packed.rows,
            slowest_us=packed.slowest_us,
            errors=packed.errors,
            steps=packed.steps,
            content=packed.data,
        )
    emptied = GeneratorSecond.objects.filter(pk__in=[pk for pk, _, _ in told])
    emptied.update(bundled=True, records=b"", histograms=b"", rollup={})
    return bool(some)


def tables(run: Run) -> Iterator[pa.Table]:
    """Everything recorded, bundle by bundle in order of time; what is not bundled yet comes last."""
    for content in RecordBundle.objects.filter(run=run).values_list("content", flat=True).iterator(chunk_size=4):
        yield bundles.read(bytes(content))
    rows = GeneratorSecond.objects.filter(generator__run=run, bundled=False).order_by("second", "generator_id")
    for second, chunk in rows.values_list("second", "records").iterator(chunk_size=200):
        if chunk:
            found = records.from_table(records.from_chunk(bytes(chunk)))
            if len(found):
                yield bundles.read(bundles.pack([found], [second]).data)
