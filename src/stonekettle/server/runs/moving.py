"""What moves with a row of a run: every metric of every component beside it, ranked by how it goes with it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.db.models import Q
from ninja import Field, Schema

from stonekettle.core import moving as core
from stonekettle.core.types import FloatArray
from stonekettle.engine.seconds import Selection
from stonekettle.meters.figures import Pin
from stonekettle.meters.lines import lines
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import data, metering, steps
from stonekettle.server.runs.models import MeterSecond, Run, RunSecond
from stonekettle.server.runs.plate import Column, Stretch, as_column, narrowest
from stonekettle.server.systems.pins import PinBody

MOST_METRICS = 800
"""So many are compared."""
MOST_READ_S = 7200
"""Of longer stretches the plate's own rows are compared alone: all that meters read would be too much at once."""
MOST_BLOCKS = 720
MOST_LINES, MOST_POINTS = 40, 180
ROWS = {
    "response": "the response time of {}",
    "errors": "the share of errors of {}",
    "throughput": "the rate of {}",
    "in flight": "the number of requests in flight",
}
BLOCKS_S = (5, 10, 30, 60)


class Asked(Stretch):
    """The row beside which all is set: of requests of the selection ``of`` (empty: of the step that the load explains
    least) their response, errors, throughput, or what is in flight; or a metric by its key."""

    of: str = Field("", max_length=20)
    row: str = Field("response", max_length=1000)


class Together(Schema):
    """The rank correlation at the shift that fits best; ``lag_s`` is how long the row follows the metric (below 0: is
    before it). ``false_share``: of those at least as strong, such a share is expected to be chance."""

    correlation: float
    lag_s: int
    p: float
    false_share: float


class MetricBeside(Schema):
    """A metric beside the row: ``plain`` as they are, ``apart`` with the load taken out. ``component`` is empty for
    what is counted of a step; what is in proportion to a metric says the same, and is told in ``also``. ``at`` is the
    resource's row of the plate that shows it, or ``pin`` what would; ``values`` are its blocks beside those of the row,
    moved by the shift that fits best, ``varies`` and ``swing`` shares (None: of nothing)."""

    key: str
    component: str
    name: str
    of: str
    also: list[str]
    unit: str
    at: str | None
    pin: PinBody | None
    standing: core.Standing
    plain: Together
    apart: Together
    swing: float
    varies: float | None
    values: Column


class Beside(Schema):
    """What moves with a row, the surest first: the first lines in full, and by name what did not move, of what nobody
    can tell, and what stood ``still``. ``values`` are the row's blocks. ``left_out`` metrics were too many to be
    compared; ``read`` says whether all that meters read was, or the plate's rows alone. ``enough`` is whether the row
    moves beyond what the load explains by enough to look for what else explains it; of what is named a share of
    ``most_false`` is chance at most. Without an ``answer`` too little
    was measured, or the row stood still."""

    answer: bool
    from_s: int
    until_s: int
    of: str
    row: str
    title: str
    unit: str
    block_s: int
    blocks: int
    unexplained: float | None
    enough: bool
    most_false: float
    metrics: int
    left_out: int
    read: bool
    lines: list[MetricBeside]
    a_little: int
    did_not: list[str]
    unknown: list[str]
    still: list[str]
    values: Column


@dataclass(frozen=True)
class _Metric:
    """A series that is set beside the row, and where it is drawn."""

    component: str
    name: str
    of: str
    unit: str
    values: FloatArray
    at: str | None = None
    pin: Pin | None = None
    counts: bool = False
    also: list[str] = field(default_factory=list)

    @property
    def title(self) -> str:
        named = f"{self.component} {self.name}".strip()
        return f"{named} of {self.of}" if self.of else named


@dataclass(frozen=True)
class _Table:
    """A run's rows of ``every_s`` seconds from the first on: figures, shape (n, width), and the metrics by key."""

    every_s: int
    figures: FloatArray
    metrics: Mapping[str, _Metric] = field(default_factory=dict)
    left_out: int = 0
    read: bool = False


def beside(run: Run, asked: Asked, seconds: int) -> Beside:
    """Of a run of so many seconds. Raises :class:`Conflict` where it has no such selection or row."""
    selections = {one.id: (number, one) for number, one in enumerate(run.layout.selections)}
    if asked.of and asked.of not in selections:
        raise Conflict(f"Run {run.pk} has nothing that is called {asked.of!r}. Ask for all, or a step as step:0.")
    start, end = steps.rounded(run, asked, seconds)
    table = _table(run, start, end, seconds)
    if asked.row not in ROWS and asked.row not in table.metrics:
        raise Conflict(
            f"Run {run.pk} has no row that is called {asked.row!r}. Ask for response, errors, throughput, in flight, "
            "or one of its metrics by its key."
        )
    block_s = next((s for s in BLOCKS_S if s >= table.every_s and (end - start) <= s * MOST_BLOCKS), BLOCKS_S[-1])
    window = (start // table.every_s, math.ceil(end / table.every_s))
    load = _load(run, table)
    of = asked.of or _least_explained(run, table, load, block_s)
    number, selection = selections[of]
    target = _target(run, table, asked.row, number)
    if asked.row == "throughput":
        # What is done cannot be explained by itself.
        load = core.Load(load.users, load.users, load.users, load.late)
    compared = {key: one.values for key, one in table.metrics.items() if key not in (asked.row, f"begun:{of}")}
    found = core.moving(
        target,
        compared,
        load,
        in_flight=None if asked.row == "in flight" else table.figures[:, run.layout.load("in_flight")],
        counting={key for key, one in table.metrics.items() if one.counts},
        block_s=block_s,
        every_s=table.every_s,
        window=window,
    )
    title, unit = _title(table, asked.row, selection)
    known: dict[str, Any] = {
        "from_s": start,
        "until_s": end,
        "of": of,
        "row": asked.row,
        "title": title,
        "unit": unit,
        "block_s": block_s,
        "metrics": len(compared),
        "left_out": table.left_out,
        "read": table.read,
        "most_false": core.FALSE,
    }
    if found is None:
        nothing: dict[str, Any] = {name: [] for name in ("lines", "did_not", "unknown", "still", "values")}
        return Beside(answer=False, blocks=0, unexplained=None, enough=False, a_little=0, **known, **nothing)
    rank = {"moves": 0, "the same": 1, "a little": 2, "unknown": 3, "does not": 4}
    shown = sorted(found.moves, key=lambda move: rank[move.standing])[:MOST_LINES]
    picture = core.Picture.of(target, window, block_s // table.every_s, MOST_POINTS)

    def named(standing: core.Standing) -> list[str]:
        return [table.metrics[move.key].title for move in found.moves if move.standing == standing]

    return Beside(
        answer=True,
        blocks=found.blocks,
        unexplained=steps.known(found.unexplained),
        enough=found.unexplained >= core.LEAST_UNEXPLAINED,
        lines=[
            _told(move, table.metrics[move.key], picture.beside(compared[move.key], move.apart.lag_s // table.every_s))
            for move in shown
        ],
        a_little=len(named("a little")),
        did_not=named("does not"),
        unknown=named("unknown"),
        still=[table.metrics[key].title for key in found.still],
        values=as_column(picture.target),
        **known,
    )


def _table(run: Run, start: int, end: int, seconds: int) -> _Table:
    """The run's rows of as few seconds as can be had for such a stretch, and the metrics beside them."""
    every_s = narrowest(run) if end - start <= MOST_READ_S else 10
    count = math.ceil(seconds / every_s)
    begin, until = max(0, start - core.REACH_S - metering.REACH_S), end + core.REACH_S + metering.REACH_S
    near = Q(run=run, every=every_s, second__gte=begin, second__lt=until)
    figures = np.full((count, run.layout.width), np.nan)
    for second, packed in RunSecond.objects.filter(near).values_list("second", "figures"):
        if second // every_s < count:
            figures[second // every_s] = run.layout.table([bytes(packed)])[0]
    metrics = _begun(run, figures, every_s) | _drawn(run, near, every_s, count)
    if every_s > 1 or run.simulated:
        return _Table(every_s, figures, metrics)
    # What responses tell in their Server-Timing is left out: it is a part of the response time itself.
    read = data.readings(run, [], data.scraped(run, begin, until), begin)
    found, left_out = lines(run.plan.system, read, seconds, MOST_METRICS)
    known: dict[tuple[str, bytes], _Metric] = {}
    for line in found:
        proportions = (line.pin.component, _in_proportion(line.values))
        if proportions in known:
            known[proportions].also.append(f"{line.name} of {line.of}" if line.of else line.name)
            continue
        metrics[line.key] = known[proportions] = _Metric(
            line.pin.component, line.name, line.of, line.unit, line.values, pin=line.pin, counts=line.counts
        )
    return _Table(every_s, figures, metrics, left_out, read=True)


def _in_proportion(values: FloatArray) -> bytes:
    """The same for all series that are multiples of each other."""
    most = float(np.nanmax(np.abs(values), initial=0.0))
    return np.round(values / most if most else values, 6).tobytes()


def _begun(run: Run, figures: FloatArray, every_s: int) -> dict[str, _Metric]:
    """How many of each step were begun per second, where there are several."""
    layout = run.layout
    numbers = {one.id: number for number, one in enumerate(layout.selections)}
    if len(layout.step_ids) < 2:
        return {}
    return {
        f"begun:{key}": _Metric(
            "", f"{step} begun", "", "1/s", figures[:, layout.requests(numbers[key], "started")] / every_s
        )
        for (_, step), key in layout.step_ids.items()
    }


def _drawn(run: Run, near: Q, every_s: int, count: int) -> dict[str, _Metric]:
    """The resources of the plate, of each instance where there are several, with those that wait for them."""
    known: dict[str, Any] = run.meter_columns or {"rows": {}, "columns": []}
    columns: list[list[str]] = known["columns"]
    values = np.full((count, len(columns)), np.nan)
    for second, packed in MeterSecond.objects.filter(near).values_list("second", "values"):
        if second // every_s < count:
            values[second // every_s] = metering.unpacked(bytes(packed), len(columns))
    found = {}
    for place, (row, part) in enumerate(columns):
        if not row.startswith("resource:") or part == "capacity":
            continue
        about = known["rows"][row]
        instance = metering.instance_of(row, part)
        name = f"{about['name']} waiting" if part == "waiting" else f"{about['name']} utilisation"
        unit = "" if part == "waiting" else "share"
        found[f"{row}|{part}"] = _Metric(about["component"], name, instance or "", unit, values[:, place], at=row)
    return found


def _load(run: Run, table: _Table) -> core.Load:
    """What is ordered, begun and done, and how late the generators were."""
    layout, figures = run.layout, table.figures
    begun, done = (figures[:, layout.requests(0, name)] / table.every_s for name in ("started", "completed"))
    late = figures[:, layout.load("overdue")] + figures[:, layout.load("blind")]
    return core.Load(figures[:, layout.load("ordered")], begun, done, late)


def _target(run: Run, table: _Table, row: str, selection: int) -> tuple[FloatArray, FloatArray]:
    """The row's sum, and what it is divided by."""
    layout, figures = run.layout, table.figures
    done, errors, took_s = (
        figures[:, layout.requests(selection, name)] for name in ("completed", "errors", "response_sum_s")
    )
    if row == "response":
        return took_s, done - errors
    if row == "errors":
        return errors, done
    if row == "throughput":
        return done - errors, np.where(np.isfinite(done), float(table.every_s), np.nan)
    values = figures[:, layout.load("in_flight")] if row == "in flight" else table.metrics[row].values
    return values, np.where(np.isfinite(values), 1.0, np.nan)


def _least_explained(run: Run, table: _Table, load: core.Load, block_s: int) -> str:
    """The step whose response time the load explains least; all, where that is known of none."""
    numbers = {one.id: number for number, one in enumerate(run.layout.selections)}
    keys = list(run.layout.step_ids.values())
    targets = [_target(run, table, "response", numbers[key]) for key in keys]
    place = core.least_explained(targets, load, block_s=block_s, every_s=table.every_s)
    return "all" if place is None else keys[place]


def _title(table: _Table, row: str, selection: Selection) -> tuple[str, str]:
    if row in table.metrics:
        return table.metrics[row].title, table.metrics[row].unit
    unit = {"response": "s", "errors": "share", "throughput": "1/s"}.get(row, "")
    return ROWS[row].format("all steps" if selection.id == "all" else selection.name), unit


def _told(move: core.Move, metric: _Metric, values: FloatArray) -> MetricBeside:
    return MetricBeside(
        key=move.key,
        component=metric.component,
        name=metric.name,
        of=metric.of,
        also=metric.also,
        unit=metric.unit,
        at=metric.at,
        pin=PinBody(**vars(metric.pin)) if metric.pin else None,
        standing=move.standing,
        plain=Together(**vars(move.plain)),
        apart=Together(**vars(move.apart)),
        swing=move.swing,
        varies=steps.known(move.varies),
        values=as_column(values),
    )
