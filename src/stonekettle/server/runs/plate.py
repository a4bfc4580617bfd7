"""A run as columns for its plate, at most some 1,500 points a series."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from ninja import Schema

from stonekettle.core.histogram import percentiles_s
from stonekettle.core.types import FloatArray
from stonekettle.meters.figures import Figure, FigureKind, Pin, compute, title
from stonekettle.meters.rates import MeterEvent, events
from stonekettle.server.runs.data import Measured

MAX_POINTS = 1500
SHOWN_STALL_S = 0.1
MOST_STALLS = 40
Column = list[float | None]


class ResourceColumn(Schema):
    key: str
    component: str
    name: str
    kind: str
    servers: float
    utilisation: Column
    waiting: Column | None


class PinLine(Schema):
    label: str
    values: Column


class PinRow(Schema):
    """A pinned figure as a row: lines, or for a spread its buckets' shares (``spread[b][i]`` with the
    upper ``bounds``, null for unbounded). Without either, the run has not its metric."""

    title: str
    component: str
    metric: str
    figure: FigureKind
    unit: str
    lines: list[PinLine]
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


class Plate(Schema):
    """Columns over time from second ``since`` on; ``t`` is the middle of each bin in seconds, ``bin_s`` its width.

    Times in seconds, rates per second, shares 0..1; null is unmeasured. ``blur`` is the share of the
    users present that may not have been load, overdue or unseen at the generators; ``stalls`` the
    longest of theirs.
    """

    bin_s: int
    since: int
    t: Column
    planned: Column
    users: Column
    in_flight: Column
    throughput: Column
    errors: Column
    p50: Column
    p95: Column
    p99: Column
    blur: Column
    stalls: list[Stall]
    resources: list[ResourceColumn]
    pins: list[PinRow]
    events: list[EventMark]


def width_of(seconds: int) -> int:
    """The bin width (s) that keeps so many seconds within the points of a plate."""
    return max(1, math.ceil(seconds / MAX_POINTS))


def draw(measured: Measured, pins: Sequence[Pin] = (), since: int = 0) -> Plate:
    """Merge seconds into bins: means of levels, rates of counts, percentiles of merged histograms.

    Only from second ``since`` on, a whole number of bins.
    """
    run = measured.run
    width = width_of(run.seconds)
    n = max(0, run.seconds - since)
    bins = math.ceil(n / width)
    bin_of = np.arange(n) // width
    lengths = np.bincount(bin_of, minlength=bins).astype(np.float64)
    block_of = np.concatenate([np.full(min(since, run.seconds), -1, dtype=np.int64), bin_of])
    merged = run.histograms.blocks(block_of, bins) if n else np.zeros((0, 1))

    def mean(values: FloatArray) -> Column:
        values = values[since:]
        known = np.isfinite(values)
        sums = np.bincount(bin_of[known], values[known], bins)
        counts = np.bincount(bin_of[known], minlength=bins)
        return [float(s / c) if c else None for s, c in zip(sums, counts, strict=True)]

    def rate(counts: Any) -> Column:
        return [float(x) for x in np.bincount(bin_of, counts[since:], bins) / lengths]

    def percentile(percent: float) -> Column:
        return [None if math.isnan(x) else float(x) for x in percentiles_s(merged, percent)] if n else []

    return Plate(
        bin_s=width,
        since=since,
        t=[float(since + b * width + length / 2) for b, length in enumerate(lengths)],
        planned=mean(run.planned_users),
        users=mean(run.users),
        in_flight=mean(run.in_flight),
        throughput=rate(run.succeeded),
        errors=rate(run.errors.sum(axis=1)),
        p50=percentile(50),
        p95=percentile(95),
        p99=percentile(99),
        blur=mean(_share(run.overdue + run.blind, run.users)),
        stalls=[Stall(t=begun, length_s=ended - begun) for begun, ended in _longest(run.stalls, since)],
        resources=[
            ResourceColumn(
                key=r.key,
                component=r.component,
                name=r.name,
                kind=r.kind,
                servers=r.servers,
                utilisation=mean(r.utilisation),
                waiting=mean(r.waiting) if r.waiting is not None else None,
            )
            for r in run.resources
        ],
        pins=[
            _row(compute(pin, measured.readings, run.succeeded.astype(np.float64)), title(pin, measured.readings), mean)
            for pin in pins
        ],
        events=[_mark(event) for event in events(measured.readings) if since <= event.second <= run.seconds],
    )


def _share(part: FloatArray, whole: FloatArray) -> FloatArray:
    """``part`` of ``whole``, NaN where there is no whole."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(whole > 0, np.minimum(part / whole, 1.0), np.nan)


def _longest(stalls: FloatArray, since: int) -> FloatArray:
    """The longest stalls that are worth a mark, in order of time."""
    seen = stalls[(stalls[:, 1] - stalls[:, 0] >= SHOWN_STALL_S) & (stalls[:, 0] >= since)]
    longest = np.argsort(seen[:, 0] - seen[:, 1], kind="stable")[:MOST_STALLS]
    return seen[np.sort(longest)]


def _row(figure: Figure, name: str, mean: Callable[[FloatArray], Column]) -> PinRow:
    pin = figure.pin
    return PinRow(
        title=name,
        component=pin.component,
        metric=pin.metric,
        figure=pin.figure,
        unit=figure.unit,
        lines=[PinLine(label=line.label, values=mean(line.values)) for line in figure.lines],
        bounds=[bound if math.isfinite(bound) else None for bound in figure.bounds],
        spread=[] if figure.shares is None else [mean(share) for share in figure.shares],
    )


def _mark(event: MeterEvent) -> EventMark:
    where = f"{event.component} ({event.instance})"
    text = {
        "restart": f"{where} restarted",
        "reset": f"{where}: the counter {event.metric} began anew",
        "silence": f"{where} answered no scrape for {(event.until or event.second) - event.second:.0f} s",
    }[event.kind]
    return EventMark(t=event.second, kind=event.kind, text=text, until=event.until)
