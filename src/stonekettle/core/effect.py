"""What came of a change of the system, while load went on?

Before it are the blocks of 5 s up to the moment it was asked for; after it those from which on the response time has
settled: all that follow, a single one aside, stay within four standard deviations of the last ones. The two are held
against each other by the logs of their blocks (Welch 1947, with degrees of freedom by Satterthwaite 1946), the error
made larger by how much blocks that follow each other are alike (Bayley & Hammersley 1946). Where the load was another
one, that is said too: then the difference is not the change's alone.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import special

from stonekettle.core.types import CoreInputError, Estimate, FloatArray

BLOCK_S = 5
LEAST_BLOCKS = 4
LAST_BLOCKS = 6
BEFORE_S, AFTER_S = 60.0, 90.0
WITHIN = 4.0
LEAST_SPREAD = 0.03
"""A share by which blocks differ at the least: nothing settles more exactly."""
OTHER_LOAD = 0.05
MOST_ALIKE = 0.6


@dataclass(frozen=True)
class Blocks:
    """A run by blocks of 5 s in order of time, each of shape (blocks,): when each begins (s), the delivered load, steps
    that ended and that failed, and the mean and the 95th percentile of response times (s; NaN where nothing
    succeeded)."""

    start_s: FloatArray
    load: FloatArray
    ended: FloatArray
    failed: FloatArray
    mean_s: FloatArray
    p95_s: FloatArray


@dataclass(frozen=True)
class Effect:
    """``settled_s`` is when it had settled (None: not yet, or too little is known); ratios are after over before, with
    95 % intervals. ``failed`` of the ``ended`` steps failed from when it was asked for until then. ``other_load`` is
    the load after over that before where they differ, 1 otherwise."""

    settled_s: float | None
    mean_before_s: float
    p95_before_s: float
    mean: Estimate | None
    p95: Estimate | None
    ended: int
    failed: int
    other_load: float


def effect(blocks: Blocks, asked_s: float, done_s: float, until_s: float = math.inf) -> Effect | None:
    """What came of a change asked for at one moment and done at another, until the next one. None where too little was
    measured before it. Raises :class:`CoreInputError` where it was done before it was asked for."""
    if done_s < asked_s:
        raise CoreInputError(f"done_s: {done_s:g} is before {asked_s:g}, when it was asked for.")
    told = np.isfinite(blocks.mean_s) & np.isfinite(blocks.p95_s)
    ends = blocks.start_s + BLOCK_S
    before = told & (ends <= asked_s) & (blocks.start_s >= asked_s - BEFORE_S)
    after = np.flatnonzero(told & (blocks.start_s >= done_s) & (ends <= until_s) & (blocks.start_s < done_s + AFTER_S))
    if before.sum() < LEAST_BLOCKS:
        return None
    begin = _settled(np.log(blocks.mean_s[after])) if after.size >= LEAST_BLOCKS else None
    kept = after[begin:] if begin is not None else after[:0]
    known = kept.size >= LEAST_BLOCKS
    settled_s = float(blocks.start_s[kept[0]]) if known else None
    during = (ends > asked_s) & (blocks.start_s < (settled_s if settled_s is not None else until_s))
    load = float(blocks.load[kept].mean() / max(blocks.load[before].mean(), 1e-9)) if known else 1.0
    return Effect(
        settled_s,
        float(np.exp(np.log(blocks.mean_s[before]).mean())),
        float(np.exp(np.log(blocks.p95_s[before]).mean())),
        _ratio(blocks.mean_s[before], blocks.mean_s[kept]) if known else None,
        _ratio(blocks.p95_s[before], blocks.p95_s[kept]) if known else None,
        int(blocks.ended[during].sum()),
        int(blocks.failed[during].sum()),
        load if abs(load - 1) > OTHER_LOAD else 1.0,
    )


def _settled(logs: FloatArray) -> int | None:
    """The first block from which on all are like the last ones, a single one that is not aside."""
    # By what blocks differ from the one before, but for what they all do: what still moves has no spread of its own.
    steps = np.diff(logs)
    spread = 1.4826 * float(np.median(np.abs(steps - np.median(steps)))) / math.sqrt(2)
    reach = WITHIN * max(spread, LEAST_SPREAD)
    padded = np.concatenate([logs[:1], logs, logs[-1:]])
    smooth = np.median(np.stack([padded[:-2], padded[1:-1], padded[2:]]), axis=0)
    off = np.flatnonzero(np.abs(smooth - float(np.median(logs[-LAST_BLOCKS:]))) > reach)
    begin = int(off[-1]) + 1 if off.size else 0
    return begin if begin < logs.size else None


def _ratio(before: FloatArray, after: FloatArray) -> Estimate:
    a, b = np.log(before), np.log(after)
    alike = _alike(a, b)
    u, v = (alike * float(one.var(ddof=1)) / one.size for one in (a, b))
    spread = u**2 / (a.size - 1) + v**2 / (b.size - 1)
    freedom = (u + v) ** 2 / spread if spread > 0 else a.size + b.size - 2
    reach = float(special.stdtrit(max(1.0, freedom / alike), 0.975)) * math.sqrt(u + v)
    log = float(b.mean() - a.mean())
    return Estimate(math.exp(log), math.exp(log - reach), math.exp(log + reach), 0.95)


def _alike(*parts: FloatArray) -> float:
    """By how much blocks that are alike one after the other make the variance of a mean larger."""
    off = [one - one.mean() for one in parts]
    squares = sum(float(one @ one) for one in off)
    products = sum(float(one[:-1] @ one[1:]) for one in off)
    if squares <= 0:
        return 1.0
    # Of a few blocks about their own mean less is seen than there is (Kendall 1954).
    count = sum(one.size for one in parts) / len(parts)
    lag = min(max(products / squares + 1 / count, 0.0), MOST_ALIKE)
    return (1 + lag) / (1 - lag)
