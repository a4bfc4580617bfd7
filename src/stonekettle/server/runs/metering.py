"""What the meters told becomes rows of values, a column for each resource and each pinned figure.

They are computed again over the last seconds at every look, since scrapes and pushes come late; a row is written only
where it has changed.
"""

from __future__ import annotations

import math
import zlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import Max

from stonekettle.core.run_data import ResourceSeries
from stonekettle.core.types import BoolArray, FloatArray
from stonekettle.engine.seconds import WIDER
from stonekettle.meters.figures import Figure, Pin, compute, title
from stonekettle.meters.rates import START_TIME, MeterEvent, events
from stonekettle.meters.recognise import mappings
from stonekettle.meters.samples import CHUNK, Readings, SampleArray, Samples, Source, unpack
from stonekettle.server.runs import data
from stonekettle.server.runs.models import MeterScrape, MeterSecond, Run, RunSecond

REACH_S = 15
"""A counter's rate needs the sample before, figures over 5 s some more, and a silence its length."""
AGAIN_S = 5
"""So many seconds are computed again: the slowest source of one may come so much later."""

Column = tuple[str, str]
"""The row of the plate it belongs to, and the part of that row."""


OF_INSTANCE = "of "


def instance_of(row: str, part: str) -> str | None:
    """The instance whose part of a resource's row this is; None, where it is of all."""
    return part.removeprefix(OF_INSTANCE) if row.startswith("resource:") and part.startswith(OF_INSTANCE) else None


def pin_row(pin: Pin) -> str:
    """What a pin's row is known by."""
    return "pin:" + "|".join(map(str, asdict(pin).values()))


def pins_of(run: Run) -> list[Pin]:
    return [Pin(**pin) for pin in run.system.pins] if run.system else []


@dataclass(frozen=True)
class Table:
    """Values from second ``since`` on: ``columns`` of shape (seconds,), what their rows are, and what happened."""

    since: int
    seconds: int
    columns: Mapping[Column, FloatArray]
    rows: Mapping[str, Mapping[str, Any]]
    events: Sequence[MeterEvent]


def table(
    since: int, resources: Sequence[ResourceSeries], pins: Sequence[Pin], read: Readings, throughput: FloatArray
) -> Table:
    """The table of these resources and pins; all series begin at ``since``."""
    columns: dict[Column, FloatArray] = {}
    rows: dict[str, dict[str, Any]] = {}
    for resource in resources:
        row = f"resource:{resource.key}"
        rows[row] = {"component": resource.component, "name": resource.name, "kind": resource.kind}
        columns[row, "utilisation"], columns[row, "capacity"] = resource.utilisation, resource.capacity
        if resource.waiting is not None:
            columns[row, "waiting"] = resource.waiting
        columns.update({(row, f"{OF_INSTANCE}{name}"): values for name, values in resource.instances.items()})
    for pin in pins:
        figure, row = compute(pin, read, throughput), pin_row(pin)
        rows[row] = {"title": title(pin, read), "unit": figure.unit, "bounds": _bounds(figure)}
        columns.update({(row, line.label): line.values for line in figure.lines})
        if figure.shares is not None:
            columns.update({(row, str(place)): share for place, share in enumerate(figure.shares)})
    return Table(since, throughput.size, columns, rows, events(read))


def _bounds(figure: Figure) -> list[float | None]:
    return [bound if math.isfinite(bound) else None for bound in figure.bounds]


class Reader:
    """Computes the rows of a run under way. Of the series that meters tell it reads those that are shown, and the
    last rounds only; events of the others are found at the run's end."""

    def __init__(self, run_id: int) -> None:
        self.run_id = run_id
        self._pins: list[Pin] | None = None
        self._sources: dict[int, Source] = {}
        self._wanted: BoolArray = np.zeros(0, dtype=np.bool_)
        self._rounds: dict[int, SampleArray] = {}

    def look(self) -> None:
        """Write what has come since the last look."""
        run = Run.objects.select_related("system").get(pk=self.run_id)
        pins = pins_of(run)
        last = MeterSecond.objects.filter(run=run, every=1).aggregate(last=Max("second"))["last"]
        # A figure pinned meanwhile is wanted from the beginning.
        anew = last is None or pins != self._pins
        since = 0 if last is None or anew else max(0, last + 1 - AGAIN_S)
        self._choose(run, pins, anew)
        write(run, _measured(run, since, pins, self._scraped(run, max(0, since - REACH_S))))
        self._pins = pins

    def _choose(self, run: Run, pins: Sequence[Pin], anew: bool) -> None:
        """Which series are wanted; known rounds are read again where these are others than before."""
        new = data.sources_of(run, len(self._sources))
        if not new and not anew:
            return
        self._sources |= new
        metrics: dict[str, set[str]] = {}
        for source in self._sources.values():
            metrics.setdefault(source.component, set()).add(source.metric)
        shown = {(component, START_TIME) for component in metrics}
        for component in run.plan.system.components:
            for mapping in mappings(metrics.get(component.name, set()), component):
                for metric in (mapping.metric, mapping.capacity_metric, mapping.waiting_metric):
                    shown.add((component.name, (metric or "").removesuffix("_total")))
        shared = {pin.metric for pin in pins if pin.figure == "share"}
        for pin in pins:
            shown |= {(pin.component, pin.metric), (pin.other_component, pin.other_metric)}
            if pin.figure == "mean":
                shown |= {(pin.component, f"{pin.metric}_{part}") for part in ("sum", "count")}
        self._wanted = np.zeros(max(self._sources, default=-1) + 1, dtype=np.bool_)
        for number, source in self._sources.items():
            self._wanted[number] = (source.component, source.metric) in shown or source.metric in shared
        self._rounds = {}

    def _scraped(self, run: Run, begin: int) -> Readings:
        """The wanted series of the rounds from ``begin`` on."""
        if not self._wanted.size:
            return Readings()
        self._rounds = {number: rows for number, rows in self._rounds.items() if number >= begin}
        new = MeterScrape.objects.filter(run=run, scrape__gte=begin).exclude(scrape__in=list(self._rounds))
        for number, packed in new.values_list("scrape", "chunk"):
            rows = np.frombuffer(zlib.decompress(packed), dtype=CHUNK)
            known = rows["series"] < self._wanted.size
            self._rounds[number] = rows[known & self._wanted[np.minimum(rows["series"], self._wanted.size - 1)]]
        return unpack(self._sources, [rows.tobytes() for rows in self._rounds.values()])


def lately(run_id: int, keys: Sequence[str], seconds: int) -> dict[str, FloatArray]:
    """How busy these resources were in each of the last seconds for which anything is known, by key; NaN is unknown."""
    columns = Run.objects.values_list("meter_columns", flat=True).get(pk=run_id).get("columns", [])
    places = {key: columns.index(place) for key in keys if (place := [f"resource:{key}", "utilisation"]) in columns}
    newest = MeterSecond.objects.filter(run_id=run_id, every=1).order_by("-second")[:seconds] if places else []
    rows = {row.second: unpacked(bytes(row.values), len(columns)) for row in newest}
    table = np.full((max(rows) - min(rows) + 1 if rows else 0, len(columns)), np.nan)
    for second, row in rows.items():
        table[second - min(rows)] = row
    return {key: table[:, place] for key, place in places.items()}


def event_text(event: Mapping[str, Any]) -> str:
    """What a meter showed, in words."""
    where = f"{event['component']} ({event['instance']})"
    return {
        "restart": f"{where} restarted",
        "reset": f"{where}: the counter {event['metric']} began anew",
        "silence": f"{where} answered no scrape for {(event['until'] or event['second']) - event['second']:.0f} s",
    }[event["kind"]]


def complete(run: Run, measured: data.Measured) -> None:
    """All rows of a run from all there is, once it has ended."""
    seen = measured.run
    found = table(0, seen.resources, pins_of(run), measured.readings, seen.succeeded.astype(np.float64))
    with transaction.atomic():
        known = Run.objects.values_list("meter_columns", flat=True).get(pk=run.pk)
        if {tuple(column) for column in known.get("columns", [])} - set(found.columns):
            # What a file told that is gone now must not stay.
            Run.objects.filter(pk=run.pk).update(meter_columns={})
            MeterSecond.objects.filter(run=run).delete()
        write(run, found)


def add_pins(run: Run) -> None:
    """Rows of figures that were pinned after the run had ended."""
    missing = [pin for pin in pins_of(run) if pin_row(pin) not in run.meter_columns.get("rows", {})]
    if missing:
        whole = _measured(run, 0, missing)
        pinned = {column: values for column, values in whole.columns.items() if column[0].startswith("pin:")}
        rows = {row: about for row, about in whole.rows.items() if row.startswith("pin:")}
        write(run, Table(0, whole.seconds, pinned, rows, whole.events))
        run.refresh_from_db(fields=["meter_columns", "sequence"])


def _measured(run: Run, since: int, pins: Sequence[Pin], scraped: Readings | None = None) -> Table:
    """The table from second ``since`` to the last that is known, from no more than it takes."""
    begin = max(0, since - REACH_S)
    rows = list(
        RunSecond.objects.filter(run=run, every=1, second__gte=begin).values_list("second", "figures", "told__timings")
    )
    seconds = 1 + max((second for second, _, _ in rows), default=begin - 1) - begin
    layout = run.layout
    throughput = np.zeros(seconds)
    if rows:
        figures = layout.table([bytes(packed) for _, packed, _ in rows])
        places = np.array([second - begin for second, _, _ in rows])
        good = figures[:, layout.requests(0, "completed")] - figures[:, layout.requests(0, "errors")]
        throughput[places] = good
    told = [{"second": second, "timings": timings or {}} for second, _, timings in rows]
    read = _moved(data.readings(run, told, scraped, begin), begin)
    found = table(since, data.metered_by(run, read, seconds), pins, read, throughput)
    skipped = since - begin
    columns = {column: values[skipped:] for column, values in found.columns.items()}
    happened = [event for event in (_later(event, begin) for event in found.events) if event.second >= since]
    return Table(since, seconds - skipped, columns, found.rows, happened)


def _moved(read: Readings, by: float) -> Readings:
    """The readings on a clock that begins ``by`` seconds later."""
    if not by:
        return read
    return Readings(tuple(Samples(item.source, item.times - by, item.values) for item in read.series))


def _later(event: MeterEvent, by: float) -> MeterEvent:
    until = None if event.until is None else event.until + by
    return MeterEvent(event.second + by, event.kind, event.component, event.instance, event.metric, until)


def write(run: Run, found: Table) -> None:
    """Write the rows that have changed, and those of 10 s and 60 s around them."""
    seconds = found.seconds
    marks: dict[int, list[dict[str, Any]]] = {}
    for event in found.events:
        marks.setdefault(int(event.second), []).append(asdict(event))
    with transaction.atomic():
        locked = Run.objects.select_for_update(of=("self",)).only("meter_columns", "sequence").get(pk=run.pk)
        known: dict[str, Any] = locked.meter_columns or {"rows": {}, "columns": []}
        places = {(row, part): place for place, (row, part) in enumerate(known["columns"])}
        for column in found.columns:
            places.setdefault(column, len(places))
        width = len(places)
        before = _stored(run, 1, range(found.since, found.since + seconds), width)
        changed: dict[int, FloatArray] = {}
        values = np.full((seconds, width), np.nan)
        for second, (stored, _) in before.items():
            values[second - found.since] = stored
        for column, series in found.columns.items():
            values[:, places[column]] = series.astype(np.float32)
        for place in range(seconds):
            second = found.since + place
            old = before.get(second)
            same = old is not None and np.array_equal(old[0], values[place], equal_nan=True)
            if not same or (old is not None and old[1] != marks.get(second, [])):
                changed[second] = values[place]
        if not changed:
            return
        rows = {**known["rows"], **found.rows}
        columns = [list(column) for column in places]
        sequence = locked.sequence + 1
        _save(run, 1, changed, sequence, marks)
        for narrow, wide in WIDER.items():
            starts = sorted({second // wide * wide for second in changed})
            there = _stored(run, narrow, [s + i for s in starts for i in range(0, wide, narrow)], width)
            changed, marks = {}, {}
            for start in starts:
                own = [there[s] for s in range(start, start + wide, narrow) if s in there]
                changed[start] = _means([one for one, _ in own])
                marks[start] = [mark for _, some in own for mark in some]
            _save(run, wide, changed, sequence, marks)
        Run.objects.filter(pk=run.pk).update(sequence=sequence, meter_columns={"rows": rows, "columns": columns})


def _means(rows: Sequence[FloatArray]) -> FloatArray:
    table = np.vstack(rows)
    known = np.isfinite(table)
    count = known.sum(axis=0)
    means = np.where(known, table, 0.0).sum(axis=0) / np.maximum(count, 1)
    return np.where(count > 0, means, np.nan)


def width(values: bytes) -> int:
    """How many values there are in a row."""
    return len(values) // np.dtype(np.float32).itemsize


def unpacked(values: bytes, width: int) -> FloatArray:
    """A row's values; columns that came later are unknown in it."""
    row = np.full(width, np.nan)
    found = np.frombuffer(values, dtype=np.float32)
    row[: found.size] = found
    return row


def _stored(run: Run, every: int, seconds: Iterable[int], width: int) -> dict[int, tuple[FloatArray, list[Any]]]:
    rows = MeterSecond.objects.filter(run=run, every=every, second__in=list(seconds))
    return {
        second: (unpacked(bytes(values), width), marks)
        for second, values, marks in rows.values_list("second", "values", "events")
    }


def _save(
    run: Run, every: int, values: Mapping[int, FloatArray], sequence: int, marks: Mapping[int, list[dict[str, Any]]]
) -> None:
    rows = [
        MeterSecond(
            run=run,
            every=every,
            second=second,
            sequence=sequence,
            values=row.astype(np.float32).tobytes(),
            events=marks.get(second, []),
        )
        for second, row in values.items()
    ]
    MeterSecond.objects.bulk_create(
        rows,
        batch_size=500,
        update_conflicts=True,
        unique_fields=["run", "every", "second"],
        update_fields=["sequence", "values", "events"],
    )
