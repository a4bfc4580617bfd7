"""A run as columns for its plate: read by cursor, never computed from the whole.

A page holds what it has read and asks for what was written since: by the run's sequence number, which rises with every
row written or written anew. So it misses nothing, however long it slept, and one look costs the same in minute 1 as
in hour 3.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Sequence
from typing import Any, Literal, NamedTuple, Self, get_origin

import numpy as np
from django.db.models import Q, QuerySet
from ninja import Field, Schema

from stonekettle.core.types import FloatArray, IntArray
from stonekettle.engine.lifecycle import ENDED
from stonekettle.engine.seconds import ANYWHERE, LOAD, WIDTHS, Layout, Selection
from stonekettle.meters.figures import FigureKind, Pin
from stonekettle.server.runs import metering
from stonekettle.server.runs.models import MeterSecond, Run, RunSecond

MAX_POINTS = 1200
MOST_SECONDS = 366 * 86_400
SHOWN_STALL_S = 0.1
MOST_STALLS = 40
DIGITS = 5
LATELY = 60
CHOSEN_EVERY_S = 10
"""So often is what a page shows chosen anew, where it leaves the choice to us."""
CLEARLY = 1.25
Column = list[float | None]
NO_COLUMNS: dict[str, Any] = {"rows": {}, "columns": []}


class NamedLine(Schema):
    """One of several lines of a row."""

    label: str
    values: Column


class ResourceColumn(Schema):
    """A resource of a component; ``instances`` is the utilisation of each of ``instance_count``, where there are
    several and rows are split by them."""

    key: str
    component: str
    name: str
    kind: str
    capacity: Column
    utilisation: Column
    waiting: Column | None
    instance_count: int
    instances: list[NamedLine]


class PinRow(Schema):
    """A pinned figure as a row: lines, or for a spread its buckets' shares (``spread[b][i]`` with the
    upper ``bounds``, null for unbounded). Without either, the run has not its metric."""

    title: str
    component: str
    metric: str
    figure: FigureKind
    unit: str
    lines: list[NamedLine]
    bounds: Column
    spread: list[Column]


class EventMark(Schema):
    """Something a meter showed: an instance's restart, a counter's reset, a silence until ``until``."""

    t: float
    kind: str
    text: str
    until: float | None


class Stall(Schema):
    """The generators stood still from ``t`` on."""

    t: float
    length_s: float


class GroupColumn(Schema):
    """A group's load: users or arrivals per second ordered, and people present; and where they come from."""

    name: str
    region: str
    ordered: Column
    present: Column


class SelectionName(Schema):
    """What the response row can show: all steps, or those of a group, a journey, one step."""

    id: str
    name: str


class Part(SelectionName):
    """One of the parts that a row is split into."""

    throughput: Column
    p95: Column


class RegionColumn(Part):
    """What was measured of the people of a region, to be seen beside others."""

    errors: Column
    p50: Column
    p99: Column


class KindColumn(Schema):
    """Errors per second of a kind; a kind that is not named had none."""

    kind: str
    errors: Column


class ServedColumn(Schema):
    """The mean time (s) that responses of the selection ``of`` told of under a name in their Server-Timing."""

    name: str
    mean_s: Column


class Plate(Schema):
    """Columns over time: all there is where ``whole``, or what was written after the cursor. ``start`` is the first
    second of each bin of ``bin_s``, ``t`` its middle; a page puts the bins it gets in place of those it has.

    Times in seconds, rates of steps per second, shares 0..1; null is unmeasured. ``mean`` and ``p50`` to ``p99`` are of
    the selection ``of``; ``received`` are bytes per second and ``requests`` exchanges on the wire; ``journeys`` those
    done to their end per second. ``blur`` is the share
    of the users present that may not have been load, overdue or unseen at the generators; ``stalls`` the longest of
    theirs. ``sequence`` is the cursor for the next look, ``first`` the second from which on bins are shown. ``same``
    where nothing was written since the last look: then nothing is told, and a page keeps what it has.
    """

    sequence: int
    same: bool
    whole: bool
    first: int
    bin_s: int
    start: list[int]
    t: Column
    planned: Column
    users: Column
    in_flight: Column
    blur: Column
    throughput: Column
    errors: Column
    error_kinds: list[KindColumn]
    journeys: Column
    received: Column
    requests: Column
    served: list[ServedColumn]
    of: str
    mean: Column
    p50: Column
    p95: Column
    p99: Column
    groups: list[GroupColumn]
    parts: list[Part]
    regions: list[RegionColumn]
    selections: list[SelectionName]
    stalls: list[Stall]
    resources: list[ResourceColumn]
    pins: list[PinRow]
    events: list[EventMark]


class Stretch(Schema):
    """The seconds of a run from ``from_s`` to before ``until_s`` (0: all there are), of these the ``last_s`` (0:
    all)."""

    from_s: int = Field(0, ge=0, le=MOST_SECONDS)
    until_s: int = Field(0, ge=0, le=MOST_SECONDS)
    last_s: int = Field(0, ge=0, le=MOST_SECONDS)

    def within(self, seconds: int) -> Self:
        """The same of a run of so many seconds, as a piece of it."""
        end = min(seconds, self.until_s or seconds)
        start = max(self.from_s, end - self.last_s) if self.last_s else self.from_s
        return self.model_copy(update={"from_s": start, "last_s": 0})

    def length(self, seconds: int) -> int:
        """How many of a run's seconds are wanted."""
        return max(0, min(seconds, self.until_s or seconds) - self.from_s)


class Window(Stretch):
    """What a page has, up to the sequence number ``after``, in bins of ``bin_s``, of the selection ``has``; and what it
    wants: a stretch, and a selection: none, where it leaves the choice to us."""

    after: int = Field(0, ge=0)
    bin_s: int = Field(0, ge=0)
    of: str = Field("", max_length=20)
    has: str = Field("", max_length=20)
    split: Literal["", "group", "journey", "step", "region", "instance"] = ""

    def wanted(self, rows: QuerySet[Any]) -> QuerySet[Any]:
        """Those of the rows that are wanted."""
        rows = rows.filter(second__gte=self.from_s)
        return rows.filter(second__lt=self.until_s) if self.until_s else rows


def width_of(seconds: int) -> int:
    """The bin width (s) that keeps so many seconds within the points of a plate, or the widest there is."""
    return next((width for width in WIDTHS if seconds <= MAX_POINTS * width), WIDTHS[-1])


def narrowest(run: Run) -> int:
    """The narrowest rows there are: of runs that came with the product single seconds were not kept."""
    return WIDTHS[1] if run.seeded else WIDTHS[0]


def read(run: Run, window: Window, seconds: int) -> Plate:
    """What this page has not: everything, where its bins are not as wide as they should be by now. Its values are
    ours and not checked once more, as a look should cost little."""
    window = window.within(seconds)
    width = max(width_of(window.length(seconds)), narrowest(run))
    first = window.from_s // width * width
    window = window.model_copy(update={"from_s": first})
    if run.run_state not in ENDED and _has_all(run, window, width):
        return Plate.model_construct(
            **_NOTHING, sequence=run.sequence, same=True, first=first, bin_s=width, of=window.has
        )
    layout = run.layout
    ids = [selection.id for selection in layout.selections]
    traffic = window.wanted(RunSecond.objects.filter(run=run, every=width))
    metered = window.wanted(MeterSecond.objects.filter(run=run, every=width))
    whole = window.after == 0 or window.bin_s != width or window.has not in ("", *ids)
    rows = [] if whole else _rows(_new(traffic, metered, window.after))
    if window.of in ids:
        of = ids.index(window.of)
    elif window.has and not whole and all(row.second % CHOSEN_EVERY_S for row in rows):
        of = ids.index(window.has)
    else:
        of = _most_telling(run, layout, width, window)
    if whole or window.has not in ("", ids[of]):
        whole, rows = True, _rows(traffic)
    else:
        metered = _new(metered, traffic, window.after)
    start = np.array([row.second for row in rows], dtype=np.int64)
    figures = layout.table([bytes(row.figures) for row in rows])
    places = np.arange(len(rows))
    if whole and start.size:
        # Bins of which nobody told anything are there, and empty.
        places, told = (start - first) // width, figures
        start = np.arange(first, start[-1] + width, width)
        figures = np.full((start.size, layout.width), np.nan)
        figures[places] = told
    lengths = np.nan_to_num(figures[:, LOAD.index("seconds")], nan=width)

    def told_rate(values: Iterable[float]) -> Column:
        """What rows told, per second of theirs."""
        column = np.full(start.size, np.nan)
        column[places] = list(values)
        return as_column(column / lengths)

    def load(name: str) -> FloatArray:
        return figures[:, layout.load(name)]

    def requests(selection: int, name: str) -> FloatArray:
        return figures[:, layout.requests(selection, name)]

    def rate(selection: int, *, failed: bool = False) -> Column:
        done, errors = requests(selection, "completed"), requests(selection, "errors")
        return as_column((errors if failed else done - errors) / lengths)

    return Plate.model_construct(
        sequence=run.sequence,
        same=False,
        whole=whole,
        first=first,
        bin_s=width,
        start=start.tolist(),
        t=as_column(start + lengths / 2),
        planned=as_column(load("ordered")),
        users=as_column(load("users")),
        in_flight=as_column(load("in_flight")),
        blur=as_column(_share(load("overdue") + load("blind"), load("users"))),
        throughput=rate(0),
        errors=rate(0, failed=True),
        error_kinds=[
            KindColumn.model_construct(
                kind=kind, errors=told_rate((row.error_kinds or {}).get(kind, 0) for row in rows)
            )
            for kind in sorted({kind for row in rows for kind in row.error_kinds or {}})
        ],
        journeys=told_rate(sum(row.journeys) if row.journeys else math.nan for row in rows),
        received=told_rate(math.nan if row.received is None else row.received for row in rows),
        requests=told_rate(math.nan if row.requests is None else sum(row.requests) for row in rows),
        served=_served(run, layout.selections[of], rows, places, start.size),
        of=ids[of],
        mean=as_column(_mean(requests(of, "response_sum_s"), requests(of, "completed") - requests(of, "errors"))),
        p50=as_column(requests(of, "p50")),
        p95=as_column(requests(of, "p95")),
        p99=as_column(requests(of, "p99")),
        groups=[
            GroupColumn.model_construct(
                name=name,
                region=region or ANYWHERE,
                ordered=as_column(figures[:, layout.group(number, "ordered")]),
                present=as_column(figures[:, layout.group(number, "present")]),
            )
            for number, (name, region) in enumerate(zip(layout.groups, layout.regions, strict=True))
        ],
        parts=[
            Part.model_construct(
                id=one.id, name=one.name, throughput=rate(number), p95=as_column(requests(number, "p95"))
            )
            for number, one in enumerate(layout.selections)
            if window.split not in ("", "region", "instance") and one.id.startswith(f"{window.split}:")
        ],
        regions=[
            RegionColumn.model_construct(
                id=one.id,
                name=one.name,
                throughput=rate(number),
                errors=rate(number, failed=True),
                p50=as_column(requests(number, "p50")),
                p95=as_column(requests(number, "p95")),
                p99=as_column(requests(number, "p99")),
            )
            for number, one in enumerate(layout.selections)
            if window.split == "region" and one.id.startswith("region:")
        ],
        selections=[SelectionName.model_construct(id=one.id, name=one.name) for one in layout.selections],
        stalls=_longest([stall for row in rows for stall in row.stalls or ()]),
        **_metered(run, metered, start, by_instance=window.split == "instance"),
    )


_NOTHING: dict[str, Any] = {"whole": False} | {
    name: [] for name, field in Plate.model_fields.items() if get_origin(field.annotation) is list
}


def _has_all(run: Run, window: Window, width: int) -> bool:
    """Whether a page has all there is of what it shows. Every fourth look or so comes a little early, and should cost
    next to nothing."""
    known = window.has != "" and window.of in ("", window.has)
    return known and window.bin_s == width and 0 < run.sequence <= window.after


class _Row(NamedTuple):
    """A row of the run's seconds as far as a plate reads it; what older runs did not tell is None."""

    second: int
    figures: bytes
    stalls: list[list[float]] | None
    error_kinds: dict[str, int] | None
    timings: dict[str, dict[str, list[float]]] | None
    received: int | None
    requests: list[int] | None
    journeys: list[int] | None


_TOLD = ("told__stalls", "told__error_kinds", "told__timings", "told__bytes_in", "told__requests", "told__journeys")


def _new(these: QuerySet[Any], others: QuerySet[Any], after: int) -> QuerySet[Any]:
    """Those of the rows that were written since, or others of the same seconds: a page replaces seconds whole."""
    seconds = others.filter(sequence__gt=after).values("second")
    return these.filter(Q(sequence__gt=after) | Q(second__in=seconds))


def _rows(traffic: QuerySet[Any]) -> list[_Row]:
    return [_Row(*row) for row in traffic.values_list("second", "figures", *_TOLD)]


def _served(run: Run, of: Selection, rows: Sequence[_Row], places: IntArray, bins: int) -> list[ServedColumn]:
    """The time that responses of a selection told of, by name."""
    names = sorted({name for row in rows for name in row.timings or {}})
    if not names:
        return []
    wanted = {(run.layout.cells[cell].journey, run.layout.cells[cell].step) for cell in of.cells}
    steps = [str(n) for n, (journey, step) in enumerate(run.plan.steps) if (journey.name, step.name) in wanted]
    found = []
    for name in names:
        column = np.full(bins, np.nan)
        for place, row in zip(places, rows, strict=True):
            told = [sums for step in steps if (sums := (row.timings or {}).get(name, {}).get(step))]
            if count := sum(sums[0] for sums in told):
                column[place] = sum(sums[1] for sums in told) / count
        if np.isfinite(column).any():
            found.append(ServedColumn.model_construct(name=name, mean_s=as_column(column)))
    return found


def _most_telling(run: Run, layout: Layout, width: int, window: Window) -> int:
    """The selection nearest to breaking its objective, or the slowest step, by the last minutes of the window; the one
    that a page has stays until another is clearly worse."""
    ids = [selection.id for selection in layout.selections]
    rows = window.wanted(RunSecond.objects.filter(run=run, every=width)).order_by("-second")
    figures = layout.table([bytes(packed) for packed in rows.values_list("figures", flat=True)[:LATELY]])
    figures = figures[figures[:, layout.load("ordered")] > 0]
    if not figures.size:
        return 0
    severity: dict[str, float] = {}
    for goal in run.goals:
        name = min(("p50", "p95", "p99"), key=lambda p: abs(float(p[1:]) - goal.percent))
        times = figures[:, layout.requests(ids.index(goal.selection), name)] / goal.limit_s
        severity[goal.selection] = max(severity.get(goal.selection, 0.0), _high(times))
    if not severity:
        steps = [one for one in ids if one.startswith("step:")]
        severity = {one: _high(figures[:, layout.requests(ids.index(one), "p95")]) for one in steps}
    worst = max(severity, key=lambda one: severity[one], default="all")
    if window.has in severity and severity[worst] < CLEARLY * severity[window.has]:
        worst = window.has
    return ids.index(worst)


def _high(values: FloatArray) -> float:
    known = values[np.isfinite(values)]
    return float(np.percentile(known, 90)) if known.size else 0.0


def _metered(run: Run, rows: Any, start: IntArray, *, by_instance: bool) -> dict[str, Any]:
    """The columns of resources and pins beside the bins that begin at ``start``, and what happened to meters."""
    told = list(rows.values_list("second", "values", "events"))
    known: dict[str, Any] = run.meter_columns or NO_COLUMNS
    if any(metering.width(packed) > len(known["columns"]) for _, packed, _ in told):
        # Rows have got columns since the run was read.
        run.refresh_from_db(fields=["meter_columns"])
        known = run.meter_columns or NO_COLUMNS
    columns: list[list[str]] = known["columns"]
    values = np.full((len(start), len(columns)), np.nan)
    places = {int(second): place for place, second in enumerate(start)}
    marks: list[EventMark] = []
    for second, packed, events in told:
        marks += [_mark(event) for event in events]
        if (place := places.get(second)) is not None:
            values[place] = metering.unpacked(bytes(packed), len(columns))
    found: dict[str, dict[str, Column]] = {}
    counts = Counter(row for row, part in columns if metering.instance_of(row, part) is not None)
    for place, (row, part) in enumerate(columns):
        if by_instance or metering.instance_of(row, part) is None:
            found.setdefault(row, {})[part] = as_column(values[:, place])
    pins = metering.pins_of(run)
    return {
        "resources": [
            ResourceColumn.model_construct(
                key=row.removeprefix("resource:"),
                capacity=parts["capacity"],
                utilisation=parts["utilisation"],
                waiting=parts.get("waiting"),
                instance_count=max(1, counts[row]),
                instances=[
                    NamedLine.model_construct(label=label, values=column)
                    for part, column in parts.items()
                    if (label := metering.instance_of(row, part)) is not None
                ],
                **known["rows"][row],
            )
            for row, parts in found.items()
            if row.startswith("resource:")
        ],
        "pins": [_pin_row(pin, known["rows"].get(metering.pin_row(pin)), found) for pin in pins],
        "events": marks,
    }


def _pin_row(pin: Pin, about: dict[str, Any] | None, found: dict[str, dict[str, Column]]) -> PinRow:
    parts = found.get(metering.pin_row(pin), {})
    bounds = about["bounds"] if about else []
    lines = [NamedLine.model_construct(label=label, values=values) for label, values in parts.items()]
    return PinRow.model_construct(
        title=about["title"] if about else f"{pin.component} {pin.metric}",
        component=pin.component,
        metric=pin.metric,
        figure=pin.figure,
        unit=about["unit"] if about else "",
        lines=[] if bounds else lines,
        bounds=bounds,
        spread=[parts[str(place)] for place in range(len(bounds))],
    )


def as_column(values: FloatArray) -> Column:
    """A column with as many digits as anybody can read; None where nothing is known."""
    return [None if math.isnan(value) else float(f"{value:.{DIGITS}g}") for value in values.tolist()]


def _share(part: FloatArray, whole: FloatArray) -> FloatArray:
    """``part`` of ``whole``, NaN where there is no whole."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(whole > 0, np.minimum(part / whole, 1.0), np.nan)


def _mean(total: FloatArray, count: FloatArray) -> FloatArray:
    """NaN where there is none to make a mean of."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(count > 0, total / count, np.nan)


def _longest(stalls: Sequence[Sequence[float]]) -> list[Stall]:
    """The longest stalls that are worth a mark, in order of time."""
    seen = [Stall(t=begun, length_s=ended - begun) for begun, ended in stalls if ended - begun >= SHOWN_STALL_S]
    longest = sorted(seen, key=lambda stall: -stall.length_s)[:MOST_STALLS]
    return sorted(longest, key=lambda stall: stall.t)


def _mark(event: dict[str, Any]) -> EventMark:
    return EventMark(t=event["second"], kind=event["kind"], text=metering.event_text(event), until=event["until"])
