"""How widely do times lie: their standard deviation, their ends and their shape, from counts in buckets?

Each observation is taken to lie in the middle of its bucket, within 0.8 % (:mod:`histogram`).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from stonekettle.core.histogram import EDGES_US
from stonekettle.core.types import FloatArray

MIDDLES_S: FloatArray = (EDGES_US[:-1] + np.concatenate([EDGES_US[:128], EDGES_US[129:]])) / 2e6
"""Where the observations of each bucket are taken to be, in s: below 128 µs buckets hold one value each."""


@dataclass(frozen=True)
class Spread:
    """In s; NaN where nothing was counted."""

    deviation_s: float
    least_s: float
    most_s: float


def spread_of(counts: FloatArray) -> Spread:
    """Of counts by bucket, shape (BUCKETS,). The deviation is that of the sample (n − 1), NaN for a single one."""
    n = float(counts.sum())
    if n <= 0:
        return Spread(math.nan, math.nan, math.nan)
    mean = float(counts @ MIDDLES_S) / n
    squares = float(counts @ (MIDDLES_S - mean) ** 2)
    seen = np.flatnonzero(counts)
    return Spread(
        math.sqrt(squares / (n - 1)) if n > 1 else math.nan,
        float(MIDDLES_S[seen[0]]),
        float(MIDDLES_S[seen[-1]]),
    )


MOST_BARS = 60


def bars_of(rows: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Counts by bucket (shape (k, BUCKETS)) put together to at most :data:`MOST_BARS` bars: the edges all rows have in
    common, in s, shape (n + 1,), and the counts, shape (k, n). Each bar has as many buckets, so they are about equally
    wide on a logarithmic scale. Nothing counted, no bars."""
    seen = np.flatnonzero(rows.any(axis=0))
    if not seen.size:
        return np.zeros(0), np.zeros((len(rows), 0))
    first, end = int(seen[0]), int(seen[-1]) + 1
    each = -(-(end - first) // MOST_BARS)
    starts = np.arange(first, end, each)
    last = min(int(starts[-1]) + each, rows.shape[1])
    edges_us = EDGES_US[np.append(starts, last)]
    return edges_us / 1e6, np.add.reduceat(rows[:, :last], starts, axis=1)
