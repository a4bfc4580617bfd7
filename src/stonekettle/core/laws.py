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
from dataclasses import dataclass

import numpy as np
from scipy import stats

from stonekettle.core.levels import Level
from stonekettle.core.run_data import ResourceSeries
from stonekettle.core.types import Estimate, FloatArray

LITTLE_FLAG = 0.02
LITTLE_DEVIATIONS = 2.6
GROSS_GAP = 0.05
GROSS_DEVIATIONS = 4.0
GAP_PROBABILITY = 1e-4
OUR_SHARE = 0.5
"""A gap between starts is the generator's own when it stood still for so much of it."""
FULL = 0.97
"""Utilisation above which the law's line is not fitted: a full resource tells no slope."""
BACKGROUND_DEVIATIONS = 2.0
FORM_ERROR = 0.007
"""Systematic share added to a ceiling's interval, found on systems with known truth."""


@dataclass(frozen=True)
class LittleCheck:
    """Little's law at one level. ``pause_s`` is a gap without any start that chance does not explain
    and the generator's own stalls do not either: the system answered nobody."""

    level: int
    gap: float
    deviation: float
    pause_s: float

    @property
    def broken(self) -> bool:
        return abs(self.gap) > max(LITTLE_FLAG, LITTLE_DEVIATIONS * self.deviation)

    @property
    def gross(self) -> bool:
        """So far off that chance cannot explain it at any number of levels."""
        return abs(self.gap) > max(GROSS_GAP, GROSS_DEVIATIONS * self.deviation)


@dataclass(frozen=True)
class Demand:
    """What one request costs at a resource: ``demand_s`` seconds of service, from the line
    U = background + demand·X/servers. ``ceiling`` is the throughput at which it is full, with the ``servers`` it had
    at the highest level."""

    key: str
    servers: float
    background: float
    demand_s: Estimate
    ceiling: Estimate | None
    correlation: float

    @property
    def per_server_s(self) -> float:
        return self.demand_s.value / self.servers


def little(level: Level) -> LittleCheck:
    """Check Little's law and the regularity of starts at one level."""
    n = max(1, level.completions)
    gap = 1 - (level.in_flight + level.thinking) / level.users
    by_chance = level.think_variation / math.sqrt(n)
    deviation = level.thinking / level.users * math.hypot(by_chance, _cut_journeys(level))
    rate, seconds = level.completion_rate, level.seconds_used + level.seconds_left_out
    unlikely = rate * seconds * math.exp(-rate * level.longest_gap_s) < GAP_PROBABILITY
    # With fixed think times starts come in bursts, and a gap of a whole think time is regular.
    regular = level.think_variation < 0.5 and level.longest_gap_s < 1.5 * _cycle_s(level)
    ours = level.gap_stalled_s > OUR_SHARE * level.longest_gap_s
    return LittleCheck(
        level.number, gap, deviation, level.longest_gap_s if unlikely and not regular and not ours else 0.0
    )


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
    have a reading below 97 %, or utilisation does not grow.
    """
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
    if background < BACKGROUND_DEVIATIONS * background_se:
        # No background to speak of: a line through the origin is twice as sure of its slope.
        background, freedom = 0.0, len(x) - 1
        spread = float((weight * x * x).sum())
        slope = float((weight * x * u).sum()) / spread
        slope_se = math.sqrt(float((weight * (u - slope * x) ** 2).sum()) / freedom / spread)
    if slope <= 0:
        return None
    reach = float(stats.t.ppf(0.95, max(1, freedom))) * slope_se
    cost = Estimate(slope, max(slope - reach, 0.0), slope + reach)
    room = (servers - background) / slope
    relative = reach / slope + FORM_ERROR
    ceiling = Estimate(room, room / (1 + relative), room / max(1 - relative, 0.05))
    correlation = float(np.corrcoef(x, u)[0, 1]) if np.ptp(u) > 0 else 0.0
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
