"""A figure over many runs: has it shifted, when, and by how much?

Whether there is a shift is decided by a self-starting cumulative sum (Page 1954; Hawkins 1987): each run's value is
judged by the mean and spread of those before it, so no clean past is needed; scores are clipped so that one odd run
raises no alarm. Where it happened is found by the best partition into levels (Killick 2012), on values over their own
noise, taken from the differences of neighbours, so that the shift itself does not count as noise.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import special

from stonekettle.core.types import Estimate, FloatArray

ALLOWANCE = 0.5
"""Half the shift that is looked for, in standard deviations of a run."""
LIMIT = 5.0
CLIPPED = 2.5
TOGETHER = 1.25
"""Times the logarithm of how many figures are looked at: the time to a false alarm grows as exp(2·k·h) (Siegmund 1985),
that of clipped scores somewhat slower."""
FEW = 30
"""Of more runs the limit is as much higher as of more figures."""
FIRST = 5
"""Before so many runs nothing is said."""
LEAST_RUNS = 3
"""Two odd runs in a row are a disturbed week, no new level."""
PENALTY = 5.0
CONFIDENCE = 0.95
_MAD = 1.4826


@dataclass(frozen=True)
class Stretch:
    """Runs ``first`` to ``last`` (places in the series) at one level: their geometric mean (95 % interval)."""

    first: int
    last: int
    level: Estimate


@dataclass(frozen=True)
class Shift:
    """At the run in place ``at`` the figure became ``ratio`` times what it was (95 % interval)."""

    at: int
    ratio: Estimate


@dataclass(frozen=True)
class Course:
    """A figure's course: its stretches in order, the shifts between them, and the noise of a single run, as a share."""

    stretches: tuple[Stretch, ...]
    shifts: tuple[Shift, ...]
    noise: float


def shifted(values: Sequence[float] | FloatArray, together: int = 1) -> list[int]:
    """The places at which a figure over runs in order of time, all positive, shifted. Of ``together`` figures that are
    looked at side by side the limit is that much higher, so that all of them raise an alarm no more often than one
    would."""
    logs = np.log(np.asarray(values, dtype=np.float64))
    noise = _noise(logs)
    if not noise or alarm(logs, LIMIT + TOGETHER * math.log(together * max(1.0, logs.size / FEW))) is None:
        return []
    cuts = partition(logs / noise) or [_split(logs)]
    while cuts:
        edges = [0, *cuts, logs.size]
        chances = [chance_of(values, *around) for around in zip(edges, cuts, edges[2:], strict=False)]
        weakest = int(np.argmax(chances))
        if chances[weakest] < 1 - CONFIDENCE:
            break
        del cuts[weakest]  # a few odd runs, which the levels around them do not bear out
    return cuts


def chance_of(values: Sequence[float] | FloatArray, first: int, at: int, end: int) -> float:
    """The chance that runs ``first`` to before ``at`` and those from there to before ``end`` differ as they do without
    a shift (Welch 1947, on logs): for places known beforehand, where nothing has to be searched. 1 where either side
    has a single run."""
    logs = np.log(np.asarray(values, dtype=np.float64))
    one, other = logs[first:at], logs[at:end]
    if min(one.size, other.size) < 2:
        return 1.0
    parts = [float(side.var(ddof=1)) / side.size for side in (one, other)]
    if sum(parts) <= 0:
        return 1.0 if one.mean() == other.mean() else 0.0
    freedom = sum(parts) ** 2 / sum(v**2 / (side.size - 1) for v, side in zip(parts, (one, other), strict=True))
    return 2 * float(special.stdtr(freedom, -abs(float(other.mean() - one.mean())) / math.sqrt(sum(parts))))


def course(values: Sequence[float] | FloatArray, cuts: Sequence[int]) -> Course:
    """The course of a figure that shifted at the places ``cuts``."""
    logs = np.log(np.asarray(values, dtype=np.float64))
    if not logs.size:
        return Course((), (), math.nan)
    edges = [0, *cuts, logs.size]
    spread = _spread(logs, edges)
    freedom = max(1, logs.size - len(edges) + 1)
    reach = float(special.stdtrit(freedom, (1 + CONFIDENCE) / 2)) * spread
    stretches, means = [], []
    for first, end in itertools.pairwise(edges):
        mean = float(logs[first:end].mean())
        means.append(mean)
        stretches.append(Stretch(first, end - 1, _estimate(mean, reach / math.sqrt(end - first))))
    shifts = [
        Shift(cut, _estimate(after - before, reach * math.sqrt(1 / _runs(one) + 1 / _runs(other))))
        for cut, before, after, one, other in zip(cuts, means, means[1:], stretches, stretches[1:], strict=False)
    ]
    return Course(tuple(stretches), tuple(shifts), math.expm1(spread))


def alarm(logs: FloatArray, limit: float = LIMIT) -> int | None:
    """The place of the run at which a self-starting cumulative sum passes its limit; None where it never does."""
    above = below = 0.0
    kept = logs.astype(np.float64, copy=True)
    for place in range(2, logs.size):
        before = kept[:place]
        spread = float(before.std(ddof=1)) * math.sqrt((place + 1) / place)
        if spread <= 0:
            continue
        t = (logs[place] - before.mean()) / spread
        score = float(special.ndtri(min(max(special.stdtr(place - 1, t), 1e-12), 1 - 1e-12)))
        if abs(score) > CLIPPED:
            # What is far off neither decides by itself, nor hides what follows by widening the spread.
            score = math.copysign(CLIPPED, score)
            kept[place] = before.mean() + spread * float(special.stdtrit(place - 1, special.ndtr(score)))
        above = max(0.0, above + score - ALLOWANCE)
        below = max(0.0, below - score - ALLOWANCE)
        if place >= FIRST and max(above, below) > limit:
            return place
    return None


def partition(values: FloatArray) -> list[int]:
    """The places at which levels begin in the best partition of values of unit noise (squared distance, PELT)."""
    n = values.size
    sums, squares = (np.concatenate([[0.0], np.cumsum(v)]) for v in (values, values**2))
    penalty = PENALTY * math.log(n)

    def cost(first: int, end: int) -> float:
        total = sums[end] - sums[first]
        return float(squares[end] - squares[first] - total**2 / (end - first))

    best = np.full(n + 1, math.inf)
    best[0], came_from = -penalty, [0] * (n + 1)
    candidates = [0]
    for end in range(LEAST_RUNS, n + 1):
        costs = [best[first] + cost(first, end) for first in candidates]
        least = int(np.argmin(costs))
        best[end], came_from[end] = costs[least] + penalty, candidates[least]
        candidates = [first for first, c in zip(candidates, costs, strict=True) if c <= best[end]]
        if end - LEAST_RUNS + 1 >= LEAST_RUNS:
            candidates.append(end - LEAST_RUNS + 1)
    cuts, end = [], n
    while (end := came_from[end]) > 0:
        cuts.append(end)
    return cuts[::-1]


def _split(values: FloatArray) -> int:
    """The place that parts the values best in two."""
    places = range(LEAST_RUNS, values.size - LEAST_RUNS + 1)
    return min(places, key=lambda cut: float(values[:cut].var() * cut + values[cut:].var() * (values.size - cut)))


def _noise(logs: FloatArray) -> float:
    """The standard deviation of a run, robust against shifts, from the differences of neighbours."""
    steps = np.abs(np.diff(logs))
    if not steps.size:
        return 0.0
    robust = _MAD * float(np.median(steps)) / math.sqrt(2)
    return robust or float(np.sqrt(np.mean(steps**2) / 2))


def _spread(logs: FloatArray, edges: Sequence[int]) -> float:
    """The standard deviation of a run within its stretch."""
    inside = [logs[first:end] - logs[first:end].mean() for first, end in itertools.pairwise(edges)]
    freedom = max(1, logs.size - len(inside))
    return math.sqrt(sum(float(part @ part) for part in inside) / freedom)


def _runs(stretch: Stretch) -> int:
    return stretch.last - stretch.first + 1


def _estimate(mean: float, reach: float) -> Estimate:
    return Estimate(math.exp(mean), math.exp(mean - reach), math.exp(mean + reach), CONFIDENCE)
