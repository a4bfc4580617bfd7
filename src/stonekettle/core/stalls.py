"""Which response times did a generator's stalls distort, and what is left without them?

A stall delays starts; released together, they queue in the target and lengthen each other's response.
A stall (t₀, t₁) of length L is material when the queue it makes there, L·X/X_max seconds of work, exceeds
3 % of the 95th percentile, and the target had less than L of work waiting to go on with. Then the requests
that start in [t₀ − p99, t₁ + max(p95, min(X·L/(X_max − X), Z + R))] are left out of response times: by their
start, never by overlap, which would remove the long ones. Throughput and load are not touched: overdue
users are subtracted from the load exactly.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.levels import Level
from stonekettle.core.run_data import RunData, Times
from stonekettle.core.types import FloatArray, IntArray

MATERIAL = 0.03


@dataclass(frozen=True)
class Requests:
    """Single requests that succeeded, five arrays of shape (n,): their start (s since the run's start),
    the second of the run in which they completed, cell, response time and blind time in µs."""

    start_s: FloatArray
    second: IntArray
    cell: IntArray
    response_us: IntArray
    blind_us: IntArray


def windows(run: RunData, levels: Sequence[Level], throughput_limit: float) -> FloatArray:
    """Stretches of starts to leave out, shape (k, 2), apart and in order.

    ``throughput_limit`` is the best estimate of X_max (requests/s).
    """
    found: list[tuple[float, float]] = []
    light_s = min((lv.p50_s for lv in levels), default=0.0)
    for begun, ended in run.stalls:
        level = next((lv for lv in levels if lv.start_s <= begun < lv.end_s), None)
        if level is None or level.completion_rate <= 0 or not math.isfinite(level.p95_s):
            continue
        length, rate = ended - begun, level.completion_rate
        limit = max(throughput_limit, rate)
        if length * rate / limit <= MATERIAL * level.p95_s or length <= level.p50_s - light_s:
            continue
        cycle = level.thinking / rate + level.response_s
        clearing = min(rate * length / (limit - rate), cycle) if limit > rate else cycle
        found.append((begun - level.p99_s, ended + max(level.p95_s, clearing)))
    merged: list[tuple[float, float]] = []
    for low, high in sorted(found):
        if merged and low <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(high, merged[-1][1]))
        else:
            merged.append((low, high))
    return np.array(merged, dtype=np.float64).reshape(-1, 2)


def without(run: RunData, left_out: FloatArray, requests: Iterable[Requests]) -> RunData:
    """``run`` knowing its response times beside requests that start in ``left_out`` (shape (k, 2))."""
    shape = (run.seconds, len(run.cells))
    count, sum_s, blind_sum_s = run.times.count.copy(), run.times.sum_s.copy(), run.times.blind_sum_s.copy()
    totals, lows = [run.histograms], [run.low_histograms]
    for batch in requests:
        place = np.searchsorted(left_out[:, 0], batch.start_s, side="right") - 1
        inside = (place >= 0) & (batch.start_s <= left_out[np.maximum(place, 0), 1]) & (batch.second < run.seconds)
        if not inside.any():
            continue
        second, cell = batch.second[inside], batch.cell[inside]
        total, blind = batch.response_us[inside], batch.blind_us[inside]
        flat, size = second * shape[1] + cell, shape[0] * shape[1]
        count -= np.bincount(flat, minlength=size).reshape(shape)
        sum_s -= np.bincount(flat, total / 1e6, size).reshape(shape)
        blind_sum_s -= np.bincount(flat, blind / 1e6, size).reshape(shape)
        totals.append(HistogramSeries.from_observations(second, cell, total).negated())
        lows.append(HistogramSeries.from_observations(second, cell, np.maximum(total - blind, 0)).negated())
    kept = Times(count, sum_s, blind_sum_s, HistogramSeries.joined(totals), HistogramSeries.joined(lows))
    return replace(run, kept=kept)
