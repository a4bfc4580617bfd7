"""Do the data obey the laws that every queueing system obeys?

Little's law (Little 1961): the N users that were load at a level (present and not overdue) are either
waiting for an answer or thinking, so L = 1 − (mean in flight + X·Z)/N is 0 but for sampling, with
standard deviation X·Z·c/(N·√n) for n completions and a coefficient of variation c of the think time.
Where think times hardly vary, users who joined together stay together, and a window of T seconds cuts
their journeys of C seconds anywhere: half a journey more, C/2T, for as long as they keep in step. In-flight
requests are measured, never computed as X·R, which would mistake a collapse of the system for a
sick generator.

Utilisation law (Denning & Buzen 1978): U = U₀ + D·X/m for a resource with m servers, service
demand D seconds per step and background utilisation U₀.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
from scipy import special

from stonekettle.core.levels import Level, usual_success
from stonekettle.core.run_data import ResourceSeries
from stonekettle.core.types import Estimate, FloatArray

LITTLE_FLAG = 0.02
FALSE_ALARMS = 0.02
"""So often a run that obeys the law may have a level that looks as if it did not."""
GROSS_GAP = 0.05
GROSS_DEVIATIONS = 4.0
GAP_PROBABILITY = 1e-4
OUR_SHARE = 0.5
"""A gap between starts is the generator's own when it stood still for so much of it."""
FULL = 0.97
"""Utilisation above which the law's line is not fitted: a full resource tells no slope."""
BACKGROUND_DEVIATIONS = 2.0
FAILING = 0.02
"""With a larger share of failures at a level, successes and failures have a demand each."""
LATE = 0.6
"""Levels from such a share of the highest load on are the latest of a climb."""
FORM_ERROR = 0.007
"""Systematic share added to a ceiling's interval, found on systems with known truth."""


@dataclass(frozen=True)
class LittleCheck:
    """Little's law at one level, broken beyond so many ``allowed`` deviations. ``pause_s`` is a gap without any
    start that chance does not explain and the generator's own stalls do not either: the system answered nobody."""

    level: int
    gap: float
    deviation: float
    pause_s: float
    allowed: float = 2.6

    @property
    def broken(self) -> bool:
        return abs(self.gap) > max(LITTLE_FLAG, self.allowed * self.deviation)

    @property
    def gross(self) -> bool:
        """So far off that chance cannot explain it at any number of levels."""
        return abs(self.gap) > max(GROSS_GAP, GROSS_DEVIATIONS * self.deviation)


@dataclass(frozen=True)
class Demand:
    """What one step costs at a resource: ``demand_s`` seconds of service, from the line
    U = background + demand·X/servers. ``ceiling`` is the throughput at which it is full, with the ``servers`` it had
    at the highest level.

    Where steps fail, X are the successes: each carries along what failures cost, as many as there are for it at
    light load. ``failed_s`` is what one failure costs (None where next to none failed). ``variation2`` is the squared
    coefficient of variation of one step's service, as the levels scatter around the line: that of n steps is 1/n of
    it."""

    key: str
    servers: float
    background: float
    demand_s: Estimate
    ceiling: Estimate | None
    correlation: float
    failed_s: float | None = None
    variation2: float = 1.0

    @property
    def per_server_s(self) -> float:
        return self.demand_s.value / self.servers


def obeyed(levels: Sequence[Level]) -> tuple[LittleCheck, ...]:
    """Check every level of a run: the more there are, the further off one may be by chance (Šidák 1967)."""
    if not levels:
        return ()
    each = 1 - (1 - FALSE_ALARMS) ** (1 / len(levels))
    lightest = min(levels, key=lambda lv: lv.load.delivered)
    return tuple(little(lv, float(-special.ndtri(each / 2)), lightest.p99_s) for lv in levels)


def little(level: Level, allowed: float = 2.6, usual_s: float = 0.0) -> LittleCheck:
    """Check Little's law and the regularity of starts at one level. A gap of at most ``usual_s`` is no pause: a step
    in a hundred takes so long when nobody waits, so that all may be at such ones at once."""
    n = max(1, level.completions)
    gap = 1 - (level.in_flight + level.thinking) / level.users
    by_chance = level.think_variation / math.sqrt(n)
    deviation = level.thinking / level.users * math.hypot(by_chance, _cut_journeys(level))
    # Thinking is told by thinks begun; where fewer or more ended, so many are cut by the window's ends.
    think_s = level.thinking / level.completion_rate if level.completion_rate else 0.0
    deviation = math.hypot(deviation, level.unsettled * think_s / level.users)
    rate, seconds = level.completion_rate, level.seconds_used + level.seconds_left_out
    unlikely = rate * seconds * math.exp(-rate * level.longest_gap_s) < GAP_PROBABILITY
    # With fixed think times starts come in bursts, and a gap of a whole think time is regular.
    regular = level.think_variation < 0.5 and level.longest_gap_s < 1.5 * _cycle_s(level)
    ours = level.gap_stalled_s > OUR_SHARE * level.longest_gap_s
    usual = math.isfinite(usual_s) and level.longest_gap_s <= usual_s
    paused = unlikely and not (regular or ours or usual)
    return LittleCheck(level.number, gap, deviation, level.longest_gap_s if paused else 0.0, allowed)


def _cycle_s(level: Level) -> float:
    think = level.thinking / level.completion_rate if level.completion_rate else 0.0
    return think + level.response_s


def _cut_journeys(level: Level) -> float:
    """How far off X·Z may be, as a share, when users walk their journeys in step with each other."""
    cycle = _cycle_s(level)
    if not cycle > 0 or not level.seconds_used:
        return 0.0
    journey = cycle * level.steps_in_turn
    think = level.thinking / level.completion_rate * level.own_variation
    spread = (level.p95_s - level.p50_s) / 1.645 if math.isfinite(level.p95_s) else 0.0
    variation = math.hypot(think, spread) / cycle / math.sqrt(level.steps_in_turn)
    # A phase spread normally with s of a turn keeps exp(−2π²s²) of its step; s grows with the root of turns.
    turns = (level.end_s - level.start_s) / 2 / journey
    in_step = math.exp(-2 * (math.pi * variation) ** 2 * turns)
    return min(0.5, 0.5 * journey / level.seconds_used) * in_step


def demand(resource: ResourceSeries, levels: Sequence[Level]) -> Demand | None:
    """Service demand at ``resource`` by weighted regression over the levels, 90 % interval.

    The line is of busy servers, U·m: instances may come and go from level to level. None when fewer than three levels
    have a reading below 97 %, or utilisation does not grow. Work for steps that fail is work: where they matter,
    successes and failures have a demand each, neither negative.
    """
    if max((lv.error_ratio for lv in levels), default=0.0) > FAILING:
        return _demand_by_outcome(resource, levels)
    usable = [lv for lv in levels if lv.utilisation.get(resource.key, math.nan) < FULL]
    if len(usable) < 3:
        return None
    x = np.array([lv.completion_rate for lv in usable])
    u = np.array([lv.utilisation[resource.key] * _servers(resource, lv) for lv in usable])
    servers = _servers(resource, max(levels, key=lambda lv: lv.users))
    if np.ptp(x) <= 0.05 * x.max():
        return None
    # Work done in a time is a sum of x·T service times, so its variance grows with x.
    weight = np.array([lv.seconds_used for lv in usable]) / x
    slope, background, slope_se, background_se = _line(x, u, weight)
    freedom = len(x) - 2
    residual = float((weight * (u - background - slope * x) ** 2).sum()) / max(1, freedom)
    if background < BACKGROUND_DEVIATIONS * background_se:
        # No background to speak of: a line through the origin is twice as sure of its slope.
        background, freedom = 0.0, len(x) - 1
        spread = float((weight * x * x).sum())
        slope = float((weight * x * u).sum()) / spread
        slope_se = math.sqrt(float((weight * (u - slope * x) ** 2).sum()) / freedom / spread)
    if slope <= 0:
        return None
    found = _told(resource, servers, background, slope, slope_se, freedom, x, u)
    return replace(found, variation2=residual / slope**2)


def latest_demand(resource: ResourceSeries, levels: Sequence[Level]) -> Demand | None:
    """What a step costs at the highest loads, in a system of which it changed with time: U·m/X there, 90 % interval
    from the spread between levels. None with fewer than three such levels, or next to no use."""
    most = max((lv.load.delivered for lv in levels), default=0.0)
    told = [lv for lv in levels if lv.load.delivered >= LATE * most and lv.utilisation.get(resource.key, 0.0) > 0.01]
    if len(told) < 3:
        return None
    good, bad, u = _outcomes(resource, told)
    done = np.array([lv.completions for lv in told], dtype=np.float64)
    cost = u / (good + bad)
    value = float(np.average(cost, weights=done))
    spread = float(np.average((cost - value) ** 2, weights=done)) / (len(told) - 1)
    slope_se = max(math.sqrt(spread), value / math.sqrt(float(done.sum())))
    servers = _servers(resource, max(levels, key=lambda lv: lv.users))
    return _told(resource, servers, 0.0, value, slope_se, len(told) - 1, good + bad, u)


def _demand_by_outcome(resource: ResourceSeries, levels: Sequence[Level]) -> Demand | None:
    """Busy servers = background + D·successes + F·failures by weighted least squares, none of the three negative
    (Lawson & Hanson 1974). What failures cost that come only where the resource is full is the rest of its work there:
    of those who went away some may still wait, so that they would tell too little of it in the fit."""
    told = [lv for lv in levels if math.isfinite(lv.utilisation.get(resource.key, math.nan))]
    usable = [lv for lv in told if lv.utilisation[resource.key] < FULL]
    if len(usable) < 3:
        return None
    good, bad, u = _outcomes(resource, usable)
    if np.ptp(good + bad) <= 0.05 * (good + bad).max():
        return None
    root = np.sqrt(np.array([lv.seconds_used for lv in usable]) / (good + bad))
    columns = np.stack([np.ones_like(u), good, bad]) * root
    if bad.sum() <= FAILING * good.sum():
        columns[2] = 0.0
    (background, success, failure), off = scipy.optimize.nnls(columns.T, u * root)
    usual, usual_se = usual_success(usable)
    carried = 1 / usual - 1
    kept = np.array([background > 0, success > 0, failure > 0])
    slope = success + carried * failure
    if slope <= 0:
        return None
    freedom = max(1, len(usable) - int(kept.sum()))
    covariance = np.linalg.pinv(columns[kept] @ columns[kept].T) * off**2 / freedom
    share = np.array([0.0, 1.0, carried])[kept]
    slope_se = math.hypot(math.sqrt(float(share @ covariance @ share)), failure * usual_se / usual**2)
    if failure == 0:
        good, bad, u = _outcomes(resource, [lv for lv in told if lv.error_ratio > FAILING])
        failure = max(0.0, float((u - background - success * good).sum() / bad.sum()))
    servers = _servers(resource, max(levels, key=lambda lv: lv.users))
    x = np.array([lv.completion_rate for lv in usable])
    u = np.array([lv.utilisation[resource.key] for lv in usable])
    found = _told(resource, servers, background, slope, slope_se, freedom, x, u)
    return replace(found, failed_s=float(failure), variation2=off**2 / freedom / slope**2)


def _outcomes(resource: ResourceSeries, levels: Sequence[Level]) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Successes and failures per second and busy servers at each level."""
    good = np.array([lv.throughput for lv in levels])
    bad = np.array([lv.completion_rate - lv.throughput for lv in levels])
    return good, bad, np.array([lv.utilisation[resource.key] * _servers(resource, lv) for lv in levels])


def _told(
    resource: ResourceSeries,
    servers: float,
    background: float,
    slope: float,
    slope_se: float,
    freedom: int,
    x: FloatArray,
    u: FloatArray,
) -> Demand:
    reach = float(special.stdtrit(max(1, freedom), 0.95)) * slope_se
    cost = Estimate(slope, max(slope - reach, 0.0), slope + reach)
    room = max(servers - background, 0.01 * servers) / slope
    relative = reach / slope + FORM_ERROR
    ceiling = Estimate(room, room / (1 + relative), room / max(1 - relative, 0.05))
    correlation = float(np.corrcoef(x, u)[0, 1]) if np.ptp(u) > 0 and np.ptp(x) > 0 else 0.0
    return Demand(resource.key, servers, background / servers, cost, ceiling, correlation)


def _servers(resource: ResourceSeries, level: Level) -> float:
    """How many servers it had at a level; as many as usual where nothing told."""
    told = level.capacity.get(resource.key, math.nan)
    return told if told > 0 else resource.servers


def _line(x: FloatArray, y: FloatArray, weight: FloatArray) -> tuple[float, float, float, float]:
    """Weighted least squares: slope, intercept, and the standard error of each."""
    total = float(weight.sum())
    mean_x, mean_y = float((weight * x).sum()) / total, float((weight * y).sum()) / total
    spread = float((weight * (x - mean_x) ** 2).sum())
    slope = float((weight * (x - mean_x) * (y - mean_y)).sum()) / spread
    intercept = mean_y - slope * mean_x
    residual = float((weight * (y - intercept - slope * x) ** 2).sum()) / max(1, len(x) - 2)
    return slope, intercept, math.sqrt(residual / spread), math.sqrt(residual * (1 / total + mean_x**2 / spread))
