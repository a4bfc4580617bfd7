"""What would a percentile be at a load that was not held yet?

What is foretold at N: a step's time is drawn from the light histogram, and it waits besides for those whom an arriving
user finds at what limits (Sevcik & Mitrani 1981), each an exponential service, so long that the mean is the curve's.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from scipy import special

from stonekettle.core import laws, limit, queueing
from stonekettle.core.histogram import percentile_s
from stonekettle.core.levels import Level
from stonekettle.core.objectives import Objective
from stonekettle.core.run_data import ResourceSeries, RunData
from stonekettle.core.types import Estimate, FloatArray, IntArray

LIGHT_LEVELS = 2
SHOWS = 1.5
"""Steps wait visibly where the mean response is so many times the light one."""
ROUGH = 0.15
"""How much the cost of a step by two levels may be off."""
GRID, QUANTILES = 128, 32


def demand(resource: ResourceSeries, levels: Sequence[Level]) -> laws.Demand | None:
    """What a step costs at a resource: by its law where there are enough levels, and by their mean before."""
    if len(levels) > LIGHT_LEVELS:
        return laws.demand(resource, levels)
    rate = sum(lv.completion_rate for lv in levels)
    used = [lv.utilisation.get(resource.key, math.nan) for lv in levels]
    busy = sum(u * lv.capacity[resource.key] for u, lv in zip(used, levels, strict=True)) if used else math.nan
    if not math.isfinite(busy) or busy <= 0 or rate <= 0:
        return None
    cost, servers = busy / rate, levels[-1].capacity[resource.key]
    demand_s, ceiling = (Estimate(v, v * (1 - ROUGH), v * (1 + ROUGH)) for v in (cost, servers / cost))
    return laws.Demand(resource.key, servers, 0.0, demand_s, ceiling, 1.0)


def best(levels: Sequence[Level], hardware: Sequence[laws.Demand]) -> limit.Limit | None:
    """The curve by hardware's demands, also of two levels only."""
    if len(levels) < LIGHT_LEVELS or not hardware:
        return None
    rate = np.array([lv.throughput for lv in levels])
    if rate.min() <= 0:
        return None
    se = np.array([lv.throughput_se if math.isfinite(lv.throughput_se) else 0.05 * lv.throughput for lv in levels])
    guess = min(d.ceiling.value for d in hardware if d.ceiling is not None)
    return limit.best(levels, rate, np.maximum(se, 1e-4 * rate), hardware, guess)


class Foretold:
    """A percentile over load, by light responses, the curve of the mean, and the queue at what limits."""

    def __init__(
        self, run: RunData, levels: Sequence[Level], goal: Objective, hardware: Sequence[laws.Demand], best: limit.Limit
    ) -> None:
        light = levels[:LIGHT_LEVELS]
        weights = [lv.completions for lv in light]
        used = np.any([lv.window(run.seconds).used for lv in light], axis=0)
        counts = run.histograms.merged(used, run.cells_of(goal.steps))
        shares = (np.arange(QUANTILES) + 0.5) / QUANTILES * 100
        self._light_s = np.array([percentile_s(counts, float(p)) for p in shares])
        mean = float(np.average([lv.response_s for lv in light], weights=weights))
        self._part = _part(levels, goal, float(self._light_s.mean()) / mean if mean > 0 else 1.0)
        self._best, self._think_s = best, light[0].thinking / light[0].completion_rate
        servers = {d.key: d.servers for d in hardware}
        self._servers = max(1, round(servers.get(best.resource or "", 1)))
        self._base_s = float(np.average(self._mean_s([lv.load.delivered for lv in light]), weights=weights))
        self._percent, self._shift = goal.percent, 0.0
        upper = [lv for lv in levels[LIGHT_LEVELS:] if measured_s(run, lv, goal) > 0][-2:]
        if upper:
            off = [math.log(measured_s(run, lv, goal) / self.percentile_s(lv.load.delivered)) for lv in upper]
            self._shift = float(np.mean(off))

    def _mean_s(self, loads: Sequence[float]) -> FloatArray:
        return self._best.response.curve(np.array(loads))

    def percentile_s(self, load: float) -> float:
        """The percentile of a step (s) at so many users."""
        waited = max(0.0, float(self._mean_s([load])[0]) - self._base_s) * self._part
        users = max(1, round(load))
        demand_s = self._servers / self._best.throughput.value
        delay_s = max(self._best.response_s + self._think_s - demand_s, 1e-6)
        found = queueing.found_by_arrival(users, delay_s, demand_s, self._servers)
        ahead = np.maximum(np.arange(len(found)) - self._servers + 1, 0)
        own_s = float(found @ ahead) / self._best.throughput.value
        # The curve knows of what the queue of one station does not.
        step_s = (waited / own_s if own_s > 0 else 0.0) / self._best.throughput.value
        return math.exp(self._shift) * _with_wait(self._light_s, found, ahead, step_s, self._percent)

    def slope(self, load: float) -> float:
        """Of the log of the percentile over the log of load."""
        low, high = (self.percentile_s(load * k) for k in (1 / 1.1, 1.1))
        return math.log(high / low) / (2 * math.log(1.1))

    def crossing(self, goal_s: float, most: float) -> float:
        """Where the percentile reaches a goal, at most ``most``."""
        if self.percentile_s(most) <= goal_s:
            return most
        low, high = 1.0, most
        while high > 1.01 * low:
            middle = math.sqrt(low * high)
            low, high = (middle, high) if self.percentile_s(middle) <= goal_s else (low, middle)
        return low


def _part(levels: Sequence[Level], goal: Objective, guess: float) -> float:
    """How long the steps of a goal wait for each second that all steps wait on the average: what they do at the highest
    level where it shows, and a ``guess`` before."""
    if goal.steps is None:
        return 1.0
    (low, all_low), (high, all_high) = ((_mean_s(lv, goal.steps), lv.response_s) for lv in (levels[0], levels[-1]))
    if len(levels) <= LIGHT_LEVELS or not all_high > SHOWS * all_low or not math.isfinite(high - low):
        return guess
    return max(0.05, (high - low) / (all_high - all_low))


def _mean_s(level: Level, steps: Sequence[int]) -> float:
    """The mean response of these steps (s); NaN where none succeeded."""
    chosen = [s for s in level.steps if s.step in steps and s.completions > s.errors]
    good = sum(s.completions - s.errors for s in chosen)
    return sum(s.response_s * (s.completions - s.errors) for s in chosen) / good if good else math.nan


def _with_wait(light_s: FloatArray, found: FloatArray, ahead: IntArray, step_s: float, percent: float) -> float:
    """The percentile of a light time and the wait for as many as are ``ahead``, exponential times of ``step_s`` each,
    found so with these probabilities."""
    likely = found > 1e-9
    found, ahead = found[likely] / found[likely].sum(), ahead[likely]
    if step_s <= 0 or not ahead.max():
        return float(np.percentile(light_s, percent))
    grid = np.linspace(0.0, step_s * (ahead.max() + 4 * math.sqrt(ahead.max()) + 4), GRID)
    waiting = ahead > 0
    longer = found[waiting] @ special.gammaincc(ahead[waiting][:, None], grid[None, :] / step_s)
    low, high = 0.0, float(light_s.max() + grid[-1])
    for _ in range(40):
        t = (low + high) / 2
        over = np.where(light_s >= t, 1.0, np.interp(t - light_s, grid, longer, right=0.0)).mean()
        low, high = (t, high) if over > 1 - percent / 100 else (low, t)
    return (low + high) / 2


def measured_s(run: RunData, level: Level, goal: Objective) -> float:
    counts = run.histograms.merged(level.window(run.seconds).used, run.cells_of(goal.steps))
    return percentile_s(counts, goal.percent) if counts.sum() else 0.0
