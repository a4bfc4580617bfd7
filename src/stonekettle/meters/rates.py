"""From samples at odd moments to one value a second, with gaps as gaps and restarts found.

A counter's rate over the time between two samples holds for the seconds between them; a gauge's
value for the time since the sample before. A stretch much longer than the usual one is a gap (NaN),
never zero. A counter that falls has begun anew from zero.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.types import BoolArray, FloatArray
from stonekettle.meters.samples import Readings, Samples

GAP = 2.5
"""A stretch longer than this many usual ones is a gap."""
START_TIME = "process_start_time_seconds"
START_MOVED_S = 1.0
RESTART_SHARE = 0.5
"""When so many of an instance's counters fall at once, it has restarted."""
SILENCE_S = 3.0


@dataclass(frozen=True)
class MeterEvent:
    """Something that happened to an instance at ``second`` of the run. ``until`` ends a silence."""

    second: float
    kind: Literal["restart", "reset", "silence"]
    component: str
    instance: str
    metric: str = ""
    until: float | None = None


def increments(samples: Samples) -> FloatArray:
    """A counter's growth between successive samples, shape (n − 1,)."""
    grown = np.diff(samples.values)
    return np.where(grown < 0, samples.values[1:], grown)


def per_second(samples: Samples, seconds: int) -> FloatArray:
    """The series in every second of the run, shape (seconds,): rates (1/s) of counters and buckets,
    values of gauges; NaN where nothing is known.

    Second k is the time from k to k + 1: a sample taken at k + 1 closes it.
    """
    result = np.full(seconds, np.nan)
    times = samples.times
    if times.size < 2:
        if times.size == 1 and samples.source.kind == "gauge":
            place = round(float(times[0])) - 1
            if 0 <= place < seconds:
                result[place] = samples.values[0]
        return result
    lengths = np.diff(times)
    known: BoolArray = lengths > 0
    known &= lengths <= GAP * max(1.0, float(np.median(lengths[known])) if known.any() else 1.0)
    if samples.source.kind == "gauge":
        values = samples.values[1:]
        # After a gap, or at the start, a gauge still tells of its own second.
        first = np.concatenate(([0], np.flatnonzero(~known) + 1))
        places = np.rint(times[first]).astype(np.int64) - 1
        inside = (places >= 0) & (places < seconds)
        result[places[inside]] = samples.values[first][inside]
    else:
        values = increments(samples) / np.where(lengths > 0, lengths, 1.0)
    starts = np.rint(times[:-1]).astype(np.int64)[known]
    counts = np.maximum(np.rint(times[1:]).astype(np.int64)[known] - starts, 0)
    places = np.repeat(starts - np.concatenate(([0], np.cumsum(counts)[:-1])), counts) + np.arange(counts.sum())
    filled = np.repeat(values[known], counts)
    inside = (places >= 0) & (places < seconds)
    result[places[inside]] = filled[inside]
    return result


def total(columns: Sequence[FloatArray]) -> FloatArray:
    """Sum over series second by second, NaN where none is known."""
    table = np.vstack(columns)
    known = np.isfinite(table)
    return np.where(known.any(axis=0), np.where(known, table, 0.0).sum(axis=0), np.nan)


def largest(columns: Sequence[FloatArray]) -> FloatArray:
    """Maximum over series second by second, NaN where none is known."""
    table = np.vstack(columns)
    known = np.isfinite(table)
    return np.where(known.any(axis=0), np.where(known, table, -np.inf).max(axis=0), np.nan)


def events(readings: Readings) -> tuple[MeterEvent, ...]:
    """Restarts, counter resets and silences of all instances, in order of time."""
    by_instance: dict[tuple[str, str], list[Samples]] = {}
    for item in readings.series:
        by_instance.setdefault((item.source.component, item.source.instance), []).append(item)
    found = [event for key, items in by_instance.items() for event in _of_instance(*key, items)]
    return tuple(sorted(found, key=lambda event: event.second))


def _of_instance(component: str, instance: str, items: Sequence[Samples]) -> list[MeterEvent]:
    found: list[MeterEvent] = []
    restarts: list[float] = []
    for item in items:
        if item.source.metric == START_TIME:
            moved = np.diff(item.values) > START_MOVED_S
            restarts += [float(t) for t in item.times[1:][moved]]
    falls: dict[float, list[Samples]] = {}
    counters = [item for item in items if item.source.kind == "counter" and item.values.any()]
    for item in counters:
        for t in item.times[1:][np.diff(item.values) < 0]:
            falls.setdefault(round(float(t)), []).append(item)
    for t, fallen in falls.items():
        if any(abs(t - r) <= SILENCE_S for r in restarts):
            continue
        if len(fallen) > 1 and len(fallen) >= RESTART_SHARE * len(counters):
            restarts.append(t)
        else:
            metrics = sorted({item.source.metric for item in fallen})
            found += [MeterEvent(t, "reset", component, instance, metric) for metric in metrics]
    found += [MeterEvent(t, "restart", component, instance) for t in sorted(set(restarts))]
    moments = np.unique(np.concatenate([item.times for item in items]))
    if moments.size > 2:
        lengths = np.diff(moments)
        # Several metrics of one page carry the same time; only true pauses count.
        usual = float(np.median(lengths[lengths > 0.05])) if (lengths > 0.05).any() else 1.0
        for i in np.flatnonzero(lengths > max(SILENCE_S, GAP * usual)):
            start, end = float(moments[i]), float(moments[i + 1])
            found.append(MeterEvent(start, "silence", component, instance, until=end))
    return found
