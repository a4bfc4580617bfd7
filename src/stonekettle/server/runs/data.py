"""A run's measurements read back from the database."""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, cast

from django.db import transaction
from django.db.models import F, Max, OuterRef, Subquery

from stonekettle.core.run_data import ResourceSeries, RunData
from stonekettle.core.stalls import Requests
from stonekettle.engine import records, server_timing
from stonekettle.engine.rollup import StoredSecond, assemble, unpack_histograms
from stonekettle.engine.script import cell_numbers, cells_of
from stonekettle.meters import resources
from stonekettle.meters.exposition import Kind
from stonekettle.meters.samples import Batch, Readings, Samples, Source, unpack
from stonekettle.plan.system import ResourceMapping
from stonekettle.server.runs import bundling
from stonekettle.server.runs.models import MeterScrape, MeterSeries, MetricsFile, Run, RunSecond
from stonekettle.server.systems import pushes

SECONDS_STORED = Subquery(
    RunSecond.objects.filter(run=OuterRef("pk"), every=1).order_by("-second").values(seconds=F("second") + 1)[:1]
)
"""For a look at a run that asks for it ``stored`` together with the run."""


def seconds_stored(run: Run) -> int:
    """How many seconds are known of a run."""
    stored: int | None = vars(run).get("stored")
    if stored is not None:
        return stored
    if run.seeded:  # its seconds stand in wider rows alone
        last = RunSecond.objects.filter(run=run).aggregate(last=Max(F("second") + F("every")))["last"]
        return int(last or 0)
    last = RunSecond.objects.filter(run=run, every=1).aggregate(last=Max("second"))["last"]
    return 0 if last is None else int(last) + 1


@dataclass(frozen=True)
class Measured:
    """A run's measurements: what the core analyses, and every series the meters read."""

    run: RunData
    readings: Readings


def load(run: Run) -> Measured:
    """Everything measured so far, but for the single requests."""
    plan = run.plan
    rows = RunSecond.objects.filter(run=run, every=1).values_list("told", "histograms")
    stored = [StoredSecond("", told, unpack_histograms(bytes(histograms))) for told, histograms in rows]
    length = 1 + max((int(s.rollup["second"]) for s in stored), default=-1)
    read = readings(run, [second.rollup for second in stored])
    metered = metered_by(run, read, length)
    groups = [group.name for group in plan.people]
    return Measured(assemble(cells_of(plan), run.ordered, stored, metered, length, groups), read)


def readings(
    run: Run, told: Sequence[Mapping[str, Any]], scraped: Readings | None = None, since: float = 0.0
) -> Readings:
    """All series read by scrapes (those ``scraped``, where given), told by the responses of these seconds, pushed
    from ``since`` (s) on, uploaded."""
    plan = run.plan
    timings = server_timing.series(plan, told)
    read = _scraped(run) if scraped is None else scraped
    return read.joined(timings).joined(pushes.during(run, plan, since)).joined(_uploaded(run))


def metered_by(run: Run, read: Readings, seconds: int) -> tuple[ResourceSeries, ...]:
    """The resources of the run's system over so many seconds."""
    return resources.series(run.plan.system, read, seconds, _mapped_by_files(run))


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


def _scraped(run: Run) -> Readings:
    return scraped(run, 0, None)


def scraped(run: Run, begin: int, end: int | None) -> Readings:
    """What was scraped from second ``begin`` to before ``end`` (None: all that follows)."""
    rounds = MeterScrape.objects.filter(run=run, scrape__gte=begin)
    if end is not None:
        rounds = rounds.filter(scrape__lt=end)
    return unpack(sources_of(run), [zlib.decompress(chunk) for chunk in rounds.values_list("chunk", flat=True)])


def sources_of(run: Run, first: int = 0) -> dict[int, Source]:
    """What the run's series are of, from number ``first`` on."""
    rows = MeterSeries.objects.filter(run=run, number__gte=first).values_list(
        "number", "component", "instance", "metric", "labels", "kind"
    )
    return {
        number: Source(component, instance, metric, tuple(sorted(labels.items())), cast(Kind, kind))
        for number, component, instance, metric, labels, kind in rows
    }


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


def requests(run: Run) -> Iterator[Requests]:
    """The steps that succeeded, minute by minute, as the core reads them; nothing is read before it asks."""
    cells = cell_numbers(run.plan)
    for table in bundling.tables(run):
        yield records.to_requests(records.from_table(table), table["second"].to_numpy(), cells)
