"""A run's measurements read back from the database."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from django.db.models import Max

from stonekettle.core.run_data import RunData
from stonekettle.engine import records
from stonekettle.engine.rollup import StoredSecond, assemble, unpack_histograms
from stonekettle.engine.script import step_infos
from stonekettle.meters.resources import Reading, series
from stonekettle.server.runs.models import GeneratorSecond, MeterSecond, Run


def seconds_stored(run: Run) -> int:
    """How many seconds any generator has delivered."""
    last = GeneratorSecond.objects.filter(generator__run=run).aggregate(last=Max("second"))["last"]
    return 0 if last is None else int(last) + 1


def load(run: Run) -> RunData:
    """Everything measured so far, but for the single requests."""
    plan = run.plan
    rows = GeneratorSecond.objects.filter(generator__run=run).values_list("generator__name", "rollup", "histograms")
    stored = [StoredSecond(name, rollup, unpack_histograms(bytes(histograms))) for name, rollup, histograms in rows]
    length = 1 + max((int(s.rollup["second"]) for s in stored), default=-1)
    meters = MeterSecond.objects.filter(run=run).values_list("second", "readings")
    readings = {second: [Reading(**r) for r in found] for second, found in meters}
    return assemble(step_infos(plan), plan.profile, stored, series(readings, length), length)


def request_tables(run: Run) -> Iterator[Any]:
    """Request records second by second as Arrow tables; the whole is never in memory."""
    rows = (
        GeneratorSecond.objects.filter(generator__run=run)
        .order_by("second", "generator_id")
        .values_list("records", flat=True)
    )
    for chunk in rows.iterator(chunk_size=200):
        if chunk:
            yield records.from_chunk(bytes(chunk))
