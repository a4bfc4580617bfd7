"""Is there room for more users, by how it feels to be one?

Two indices of a level. The slowdown: each step's mean response over its own at the lowest level, and of these the
geometric mean over steps (Fleming & Wallace 1986), so that a step of 20 ms that takes 40 counts as much as one of 2 s
that takes 4. And the Apdex score of all steps (Apdex Alliance 2007). Errors are those of blocks of seconds: a
jackknife (Efron & Stein 1981) and a ratio of sums (Cochran 1977).

Where an index does not cross its limit at any load of the run, the closed network with the measured demands says how
the mean response goes on. The slowdown followed it so far by some power; it is taken to go on by it, from the highest
level, and no further than twice the load that was tried.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.limit import Response
from stonekettle.core.objectives import Z_90, Curve, crossing_interval
from stonekettle.core.types import CoreInputError, Estimate, FloatArray

LEAST_ANSWERS = 30
FURTHEST = 2.0
"""So many times the highest load is as far as demands are trusted."""
POWER_ERROR = 0.5
"""How far the slowdown may be from going with the mean response, before anything is known of it."""
LEAST_ERROR = 0.02
CURVE_ERROR = 0.04
GRID = 400


@dataclass(frozen=True)
class Served:
    """What was answered at the level with a ``number`` and a ``load``, ``blind`` of which may not have been felt:
    successes and their times (s) by block and step, both of shape (blocks, steps)."""

    number: int
    load: float
    blind: float
    count: FloatArray
    took_s: FloatArray


@dataclass(frozen=True)
class Scored:
    """What an Apdex score of a level is made of, each of shape (blocks,): ``met`` counts those within T as one and
    those within 4T as a half, ``count`` all answers and failures."""

    number: int
    load: float
    blind: float
    met: FloatArray
    count: FloatArray


@dataclass(frozen=True)
class Index:
    """An index at ``levels``, by their numbers, in order of load, each of shape (k,): ``logs`` of what grows as it gets
    worse (the slowdown, or what an Apdex score lacks of 1) with their standard errors. ``steps`` count for it."""

    kind: Literal["slowdown", "apdex"]
    levels: tuple[int, ...]
    loads: FloatArray
    blind: FloatArray
    logs: FloatArray
    se: FloatArray
    steps: tuple[int, ...] = ()

    @property
    def values(self) -> FloatArray:
        """The index as it is told: how many times as slow, or a score of 0..1."""
        told = np.exp(self.logs)
        return np.asarray(told if self.kind == "slowdown" else 1 - told)

    def ends(self) -> tuple[FloatArray, FloatArray]:
        """The 90 % interval of the values."""
        both = [np.exp(self.logs + sign * Z_90 * self.se) for sign in (-1, 1)]
        return (both[0], both[1]) if self.kind == "slowdown" else (1 - both[1], np.asarray(1 - both[0]))


@dataclass(frozen=True)
class RoomForMore:
    """Where an index crosses its limit.

    ``crosses`` at ``load``; ``already`` where the lowest level is beyond it; ``not reached`` up to ``tested``, where
    ``load`` is the one at which demands say it would cross, None where they tell none within twice what was tried, or
    nothing (then ``extrapolated`` is False).
    """

    status: Literal["crosses", "already", "not reached"]
    tested: float
    load: Estimate | None
    extrapolated: bool = False

    @property
    def more(self) -> float:
        """For so many more there is room at least, beyond what was tried."""
        if self.status != "not reached" or not self.extrapolated:
            return 0.0
        least = self.load.low if self.load is not None else FURTHEST * self.tested
        return max(0.0, least - self.tested)


def slowdown(levels: Sequence[Served]) -> Index | None:
    """None with fewer than two levels, or where no step has 30 answers at each of them."""
    levels = sorted(levels, key=lambda level: level.load)
    if len(levels) < 2:
        return None
    answered = np.min([level.count.sum(axis=0) for level in levels], axis=0)
    steps = np.flatnonzero(answered >= LEAST_ANSWERS)
    if not steps.size:
        return None
    means, errors = zip(*(_mean_log(level.count[:, steps], level.took_s[:, steps]) for level in levels), strict=True)
    logs, se = np.array(means) - means[0], np.hypot(errors, errors[0])
    se[0] = 0.0
    return Index("slowdown", *_loads(levels), logs, se, tuple(steps.tolist()))


def apdex(levels: Sequence[Scored]) -> Index | None:
    """None without a level that has 30 answers."""
    levels = sorted((one for one in levels if one.count.sum() >= LEAST_ANSWERS), key=lambda level: level.load)
    if not levels:
        return None
    logs, se = [], []
    for level in levels:
        n, k = float(level.count.sum()), level.count.size
        # One half to both sides (Haldane 1956): nothing that lacks has no logarithm.
        lacks = (n - float(level.met.sum()) + 0.5) / (n + 1)
        off = level.met - (1 - lacks) * level.count
        spread = math.sqrt(k / (k - 1) * float((off**2).sum())) / n if k > 1 else math.sqrt(lacks * (1 - lacks) / n)
        logs.append(math.log(lacks))
        se.append(min(1.0, spread / lacks))
    return Index("apdex", *_loads(levels), np.array(logs), np.array(se))


def room(index: Index, limit: float, response: Response | None = None) -> RoomForMore:
    """Where the index crosses ``limit`` (times as slow, or a score). ``response`` is the curve of the mean response by
    the measured demands, where they are known. Raises :class:`CoreInputError` where the limit can be none."""
    goal = _goal(index.kind, limit)
    tested = float(index.loads[-1])
    estimate, everywhere, _ = crossing_interval(index.loads, Curve(index.logs, index.logs, index.se, index.blind), goal)
    if estimate is not None:
        return RoomForMore("already" if everywhere else "crosses", tested, estimate)
    if response is None or index.kind != "slowdown":
        return RoomForMore("not reached", tested, None)
    return RoomForMore("not reached", tested, _beyond(index, goal, response), extrapolated=True)


def _goal(kind: str, limit: float) -> float:
    if kind == "slowdown":
        if not 1 < limit <= 1000:
            raise CoreInputError(f"limit: {limit:g} times as slow is none. Give one above 1, at most 1000.")
        return math.log(limit)
    if not 0 < limit < 1:
        raise CoreInputError(f"limit: a score of {limit:g} is none. Give one between 0 and 1.")
    return math.log(1 - limit)


def _beyond(index: Index, goal: float, response: Response) -> Estimate | None:
    """Where the slowdown would cross, beyond the highest level; None where not within twice its load."""
    grid = np.linspace(index.loads[-1], FURTHEST * index.loads[-1], GRID)
    lone = np.log(response.curve(index.loads[:1]))[0]
    felt, ahead = np.log(response.curve(index.loads)) - lone, np.log(response.curve(grid)) - lone
    weight = 1 / (index.se**2 + LEAST_ERROR**2)
    known = float((weight * felt**2).sum()) + 1 / POWER_ERROR**2
    power = (float((weight * felt * index.logs).sum()) + 1 / POWER_ERROR**2) / known
    misfit = float((weight * (index.logs - power * felt) ** 2).sum()) / max(1, index.loads.size - 1)
    power_sd = math.sqrt(max(1.0, misfit) / known)
    top = float(index.logs[-1])
    reach = Z_90 * math.hypot(float(index.se[-1]), LEAST_ERROR)

    def crossing(power: float, start: float) -> float | None:
        beyond = np.flatnonzero(start + power * (ahead - felt[-1]) > goal)
        return float(grid[beyond[0]]) if beyond.size else None

    share = math.hypot(response.error, CURVE_ERROR)
    early = crossing(power + Z_90 * power_sd, top + reach)
    if early is None:
        return None
    value = crossing(power, top) or float(grid[-1])
    late = crossing(max(0.1, power - Z_90 * power_sd), top - reach) or float(grid[-1])
    return Estimate(value, max(float(index.loads[-1]), early * (1 - share)), late * (1 + share))


def _mean_log(count: FloatArray, took_s: FloatArray) -> tuple[float, float]:
    """The mean over steps of the log of their mean times, and its standard error by leaving out a block at a time."""
    all_count, all_took = count.sum(axis=0), took_s.sum(axis=0)
    mean = float(np.log(all_took / all_count).mean())
    k = len(count)
    if k < 2:
        return mean, 1.0
    # A step that was answered in one block only stays: without it there would be nothing to take a mean of.
    left = np.maximum(all_count - count, 1e-9)
    without = np.where(left > 0.5, np.log(np.maximum(all_took - took_s, 1e-12) / left), np.log(all_took / all_count))
    each = without.mean(axis=1)
    return mean, float(np.sqrt((k - 1) / k * ((each - each.mean()) ** 2).sum()))


def _loads(levels: Sequence[Served] | Sequence[Scored]) -> tuple[tuple[int, ...], FloatArray, FloatArray]:
    loads, blind = (np.array([getattr(level, name) for level in levels]) for name in ("load", "blind"))
    return tuple(level.number for level in levels), loads, blind
