"""A run's measurements read back from the database."""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, cast

from django.db import transaction
from django.db.models import Max

from stonekettle.core.run_data import RunData
from stonekettle.core.stalls import Requests
from stonekettle.engine import records, server_timing
from stonekettle.engine.rollup import StoredSecond, assemble, unpack_histograms
from stonekettle.engine.script import step_infos
from stonekettle.meters import resources
from stonekettle.meters.exposition import Kind
from stonekettle.meters.samples import Batch, Readings, Samples, Source, unpack
from stonekettle.plan.system import ResourceMapping
from stonekettle.server.runs.models import GeneratorSecond, MeterScrape, MeterSeries, MetricsFile, Run
from stonekettle.server.systems import pushes

RATES_REACH_S = 15
"""A counter's rate needs the sample before, and figures over 5 s some more."""


def seconds_stored(run: Run) -> int:
    """How many seconds any generator has delivered."""
    last = GeneratorSecond.objects.filter(generator__run=run).aggregate(last=Max("second"))["last"]
    return 0 if last is None else int(last) + 1


@dataclass(frozen=True)
class Measured:
    """A run's measurements: what the core analyses, and every series the meters read."""

    run: RunData
    readings: Readings


def load(run: Run, since: int = 0) -> Measured:
    """Everything measured so far, but for the single requests; what was measured before second ``since``
    is not read, and missing in the arrays."""
    plan = run.plan
    rows = GeneratorSecond.objects.filter(generator__run=run, second__gte=since).values_list(
        "generator__name", "rollup", "histograms"
    )
    stored = [StoredSecond(name, rollup, unpack_histograms(bytes(histograms))) for name, rollup, histograms in rows]
    length = 1 + max((int(s.rollup["second"]) for s in stored), default=-1)
    told = server_timing.series(plan, [second.rollup for second in stored])
    readings = _scraped(run, since).joined(told).joined(pushes.during(run, plan)).joined(_uploaded(run))
    metered = resources.series(plan.system, readings, length, _mapped_by_files(run))
    groups = [group.name for group in plan.people]
    return Measured(assemble(step_infos(plan), run.ordered, stored, metered, length, groups), readings)


def store(run_id: int, batches: Sequence[Batch]) -> None:
    """Keep batches of samples, and the series they are the first to name."""
    new = [
        MeterSeries(
            run_id=run_id,
            number=number,
            component=source.component,
            instance=source.instance,
            metric=source.metric,
            labels=dict(source.labels),
            kind=source.kind,
        )
        for batch in batches
        for number, source in batch.new
    ]
    chunks = [MeterScrape(run_id=run_id, scrape=b.scrape, chunk=zlib.compress(b.chunk, 1)) for b in batches]
    with transaction.atomic():
        MeterSeries.objects.bulk_create(new, ignore_conflicts=True)
        MeterScrape.objects.bulk_create(chunks, ignore_conflicts=True)


def _scraped(run: Run, since: int = 0) -> Readings:
    rows = MeterSeries.objects.filter(run=run).values_list(
        "number", "component", "instance", "metric", "labels", "kind"
    )
    sources = {
        number: Source(component, instance, metric, tuple(sorted(labels.items())), cast(Kind, kind))
        for number, component, instance, metric, labels, kind in rows
    }
    scrapes = MeterScrape.objects.filter(run=run, scrape__gte=max(0, since - RATES_REACH_S))
    chunks = scrapes.values_list("chunk", flat=True)
    return unpack(sources, [zlib.decompress(chunk) for chunk in chunks])


def _mapped_by_files(run: Run) -> dict[str, list[ResourceMapping]]:
    """What the columns of uploaded files are resources of, by component."""
    found: dict[str, list[ResourceMapping]] = {}
    for file in MetricsFile.objects.filter(run=run).defer("chunk"):
        for metric, _, _, resource, capacity in file.sources:
            if resource is not None:
                mapping = ResourceMapping(name=metric, kind=resource, metric=metric, capacity=capacity)
                found.setdefault(file.component, []).append(mapping)
    return found


def _uploaded(run: Run) -> Iterator[Samples]:
    for file in MetricsFile.objects.filter(run=run):
        sources = {
            number: Source(file.component, file.name, metric, tuple(sorted(labels.items())), kind)
            for number, (metric, labels, kind, _, _) in enumerate(file.sources)
        }
        for item in unpack(sources, [zlib.decompress(file.chunk)]).series:
            yield Samples(item.source, item.times - file.offset_s, item.values)


def request_tables(run: Run) -> Iterator[Any]:
    """Request records second by second as Arrow tables; the whole is never in memory."""
    return (table for _, table in _seconds_of_records(run))


def requests(run: Run) -> Iterator[Requests]:
    """The steps that succeeded, second by second, as the core reads them; nothing is read before it asks."""
    return (records.to_requests(records.from_table(table), second) for second, table in _seconds_of_records(run))


def _seconds_of_records(run: Run) -> Iterator[tuple[int, Any]]:
    rows = (
        GeneratorSecond.objects.filter(generator__run=run)
        .order_by("second", "generator_id")
        .values_list("second", "records")
    )
    for second, chunk in rows.iterator(chunk_size=200):
        if chunk:
            yield second, records.from_chunk(bytes(chunk))
