"""Where does throughput stop growing, and may that be claimed?

Definition: N* = X_max · (R₁ + Z), with X_max the throughput limit, R₁ the response time at light
load and Z the think time per step (Denning & Buzen 1978; Lazowska 1984); where people arrive by rate, X_max over
the steps that one arrival brings. X_max is the weighted
mean of the levels beyond 1.1 × the break of a hinge min(aN, aB), fitted by weighted least squares
over a scan of breaks, with ± t(0.95, k+2)·SE·√max(1, χ²/df).

Where throughput falls beyond its peak there is no plateau: claimed are the peak, its place, and the fall.

The claim is made only when a parametric bootstrap's 95th percentile of the break lies below the
second-last level *and* the upper bound of the slope over the last three levels is under half the
initial slope; an interval without that gate would cover a third of the truth it promises.

Load is what was delivered. As the generator may have been blind for b̄₁ of a response at light load,
N* lies between X_max·(R₁ − b̄₁ + Z) and X_max·(R₁ + Z): its interval holds both. Where over 5 % of the
users on the plateau were overdue or blind, the plateau is only a lower bound: X_max then lies between it
and the hardware's ceiling where that is close by, and is not claimed where it is not.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy import stats

from stonekettle.core.laws import Demand
from stonekettle.core.levels import Level
from stonekettle.core.types import BoolArray, Declined, Estimate, FloatArray, Reason

MIN_LEVELS = 4
BREAKS = 240
REPLICATES = 400
BEYOND = 1.1
FLAT = 0.5
NEAR_EFFICIENCY = 0.65
DISAGREEMENT = 0.10
RETROGRADE_DROP = 0.10
RETROGRADE_DEVIATIONS = 3.0
REGULAR = 0.5
"""A full resource lets its work go regularly: counts spread so much of what chance would (found in simulation)."""
MOST_SHIFT = 0.05
"""With a larger share of the plateau's users overdue or blind, the limit is not claimed."""


@dataclass(frozen=True)
class Hinge:
    """The fitted min(slope·N, slope·break_load), its χ², and AICc against a line through 0."""

    slope: float
    break_load: float
    chi2: float
    aicc_gain: float

    @property
    def plateau(self) -> float:
        return self.slope * self.break_load


@dataclass(frozen=True)
class Retrograde:
    """Throughput fell by ``drop`` (share) from its peak at ``peak_load``, ``deviations`` SEs."""

    peak_load: float
    peak_throughput: float
    drop: float
    deviations: float


@dataclass(frozen=True)
class Ceiling:
    """The hardware ceiling by the utilisation law: the resource that fills first, and where."""

    key: str
    throughput: Estimate
    load: Estimate


@dataclass(frozen=True)
class Saturation:
    """What the data say about saturation.

    ``throughput`` (steps/s) and ``load`` (N*) are set only for status ``reached``, and for ``peaked``: there they are
    the peak and its place, beyond which throughput falls as ``retrograde`` says, and no N*. For ``blurred``
    throughput stopped growing, but the generator's part in it is too large: it is at least ``reached``.
    ``load_95`` is the load at which throughput is 95 % of its limit. ``efficiency`` is the slope
    over the last third of the levels as a share of the initial slope.
    """

    status: Literal["reached", "peaked", "near", "not reached", "blurred"]
    throughput: Estimate | None
    load: Estimate | None
    load_95: float | None
    at_least: float
    reached: float
    initial_slope: float
    efficiency: float
    efficiency_upper: float
    light_response_s: float
    think_s: float
    hinge: Hinge
    ceiling: Ceiling | None
    ceiling_disagrees: bool
    retrograde: Retrograde | None
    next_levels: tuple[float, ...]


def find(levels: Sequence[Level], demands: Sequence[Demand] = (), seed: int = 1) -> Saturation | Declined:
    """The saturation point of a run, or what stands in the way of claiming one."""
    levels = sorted(levels, key=lambda lv: lv.load.delivered)
    if len(levels) < MIN_LEVELS:
        return Declined(Reason.TOO_FEW_LEVELS, max((lv.load.delivered for lv in levels), default=None))
    loads = np.array([lv.load.delivered for lv in levels])
    rate = np.array([lv.throughput for lv in levels])
    se = np.maximum(np.array([lv.throughput_se for lv in levels]), 1e-9 + 1e-4 * rate)
    if rate.max() <= 0:
        return Declined(Reason.NO_SUCCESS, float(loads.max()))
    hinge = fit_hinge(loads, rate, se)
    initial = float(np.average(rate[:2] / loads[:2], weights=(loads[:2] / se[:2]) ** 2))
    last = max(3, len(levels) // 3)
    slope, slope_se = _slope(loads[-last:], rate[-last:], se[-last:])
    flat = _slope_upper(loads[-3:], rate[-3:], se[-3:]) < FLAT * initial
    breaks = _bootstrap_breaks(loads, rate, se, np.random.default_rng(seed))
    settled = float(np.percentile(breaks, 95)) < loads[-2]
    think = _think_s(levels)
    light, blind = levels[0].response_s, levels[0].blind_s
    retrograde = _retrograde(loads, rate, se)
    efficiency = slope / initial
    arriving = levels[0].load.kind == "arrivals"
    ceiling = _ceiling(demands, 1 / initial if arriving else light + think)
    near = hinge.aicc_gain > 4 and efficiency < NEAR_EFFICIENCY
    open_end = Saturation(
        status="near" if near else "not reached",
        throughput=None,
        load=None,
        load_95=None,
        at_least=float(loads[-1]),
        reached=float(rate.max()),
        initial_slope=initial,
        efficiency=efficiency,
        efficiency_upper=(slope + 1.645 * slope_se) / initial,
        light_response_s=light,
        think_s=think,
        hinge=hinge,
        ceiling=ceiling,
        ceiling_disagrees=False,
        retrograde=retrograde,
        next_levels=_next_levels(loads, ceiling, hinge, near),
    )
    if retrograde is not None:
        rate_at_peak, place = _peak(loads, rate, se)
        return replace(open_end, status="peaked", throughput=rate_at_peak, load=place, next_levels=())
    if not settled or not flat:
        return open_end
    beyond = _beyond(loads, hinge)
    settled_rate, settled_se = _in_planned_mix(levels, beyond, rate, se)
    throughput = _plateau(settled_rate[beyond], settled_se[beyond])
    if max(lv.shift for lv, counted in zip(levels, beyond, strict=True) if counted) > MOST_SHIFT:
        if ceiling is None or ceiling.throughput.value > (1 + DISAGREEMENT) * throughput.value:
            return replace(open_end, status="blurred", next_levels=())
        throughput = _up_to(throughput, ceiling.throughput)
    return replace(
        open_end,
        status="reached",
        throughput=throughput,
        load=throughput.scaled(1 / initial)
        if arriving
        else Estimate(
            throughput.value * (light - blind / 2 + think),
            throughput.low * (light - blind + think),
            throughput.high * (light + think),
        ),
        load_95=_reach(loads, rate, 0.95 * throughput.value),
        ceiling_disagrees=ceiling is not None and abs(ceiling.throughput.value / throughput.value - 1) > DISAGREEMENT,
        next_levels=(),
    )


def fit_hinge(loads: FloatArray, rate: FloatArray, se: FloatArray) -> Hinge:
    """Fit min(aN, aB) by weighted least squares over a scan of breaks B. Shapes (k,)."""
    grid = _grid(loads)
    slope, sse = _scan(grid, loads, rate[None, :], se)
    best = int(np.argmin(sse[0]))
    line_slope = float((loads * rate / se**2).sum() / (loads**2 / se**2).sum())
    line_sse = float((((rate - line_slope * loads) / se) ** 2).sum())
    gain = _aicc(line_sse, len(loads), 1) - _aicc(float(sse[0, best]), len(loads), 2)
    return Hinge(float(slope[0, best]), float(grid[best]), float(sse[0, best]), gain)


def _grid(loads: FloatArray) -> FloatArray:
    return np.linspace(loads.min(), loads.max(), BREAKS)


def _scan(grid: FloatArray, loads: FloatArray, rates: FloatArray, se: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Best slope and its sum of squares for every replicate (rows of ``rates``) and break."""
    shape = np.minimum(loads[None, :], grid[:, None])
    weighted = shape / se**2
    norm = (shape * weighted).sum(axis=1)
    slope = rates @ weighted.T / norm
    total = ((rates / se) ** 2).sum(axis=1)
    return slope, total[:, None] - slope**2 * norm


def _bootstrap_breaks(loads: FloatArray, rate: FloatArray, se: FloatArray, random: np.random.Generator) -> FloatArray:
    grid = _grid(loads)
    rates = rate + se * random.standard_normal((REPLICATES, len(rate)))
    _, sse = _scan(grid, loads, rates, se)
    return np.asarray(grid[np.argmin(sse, axis=1)])


def _aicc(sse: float, n: int, parameters: int) -> float:
    """AICc of a fit with known variances: sse is χ² (Hurvich & Tsai 1989)."""
    penalty = 2 * parameters * (parameters + 1) / max(n - parameters - 1, 1)
    return sse + 2 * parameters + penalty


def _beyond(loads: FloatArray, hinge: Hinge) -> BoolArray:
    """Which levels are the plateau: those beyond the break, at least the last two."""
    beyond = loads >= BEYOND * hinge.break_load
    return beyond if beyond.sum() >= 2 else loads >= loads[-2]


def _in_planned_mix(
    levels: Sequence[Level], beyond: BoolArray, rate: FloatArray, se: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """Throughput of the levels beyond saturation as it would be in the mix of steps below it, and its error.

    While users gather before the bottleneck, fewer of the steps that need it are completed than the mix
    has, and the others make throughput look too high. Each step s tells x_s/π_s, its rate over its share of
    the mix; they count by the users that gathered in them, x_s·(R_s − R_s at light load), and by what a
    request costs there, for which its response at light load stands.
    """
    counts = np.array([[s.completions - s.errors for s in lv.steps] for lv in levels], dtype=np.float64)
    response = np.nan_to_num([[s.response_s for s in lv.steps] for lv in levels])
    below = counts[~beyond].sum(axis=0)
    if counts.shape[1] < 2 or below.sum() <= 0:
        return rate, se
    share = below / below.sum()
    light = response[~beyond].min(axis=0)
    rate, se = rate.copy(), se.copy()
    for i in np.flatnonzero(beyond):
        gathered = np.where(share > 0, counts[i] * np.maximum(response[i] - light, 0.0) * light, 0.0)
        if gathered.sum() <= 0:
            continue
        weight = gathered / gathered.sum()
        told = np.where(share > 0, counts[i] / counts[i].sum() / np.maximum(share, 1e-12), 0.0)
        factor = float(weight @ told)
        noise = np.sqrt((weight**2 * (1 / np.maximum(counts[i], 1) + 1 / np.maximum(below, 1))).sum())
        rate[i], se[i] = rate[i] * factor, max(se[i] * factor, float(rate[i] * factor * REGULAR * noise))
    return rate, se


def _plateau(rate: FloatArray, se: FloatArray) -> Estimate:
    weight = 1 / se**2
    mean = float(np.average(rate, weights=weight))
    k = len(rate)
    chi2 = float((((rate - mean) / se) ** 2).sum()) / max(k - 1, 1)
    reach = float(stats.t.ppf(0.95, k + 2)) * np.sqrt(max(1.0, chi2) / weight.sum())
    return Estimate(mean, max(0.0, mean - reach), mean + reach)


def _up_to(throughput: Estimate, ceiling: Estimate) -> Estimate:
    """Between what was reached and what the fullest resource can carry."""
    top = max(ceiling.value, throughput.value)
    return Estimate((throughput.value + top) / 2, throughput.low, max(throughput.high, ceiling.high))


def _slope(loads: FloatArray, rate: FloatArray, se: FloatArray) -> tuple[float, float]:
    weight = 1 / se**2
    centred = loads - np.average(loads, weights=weight)
    spread = float((weight * centred**2).sum())
    return float((weight * centred * rate).sum()) / spread, float(1 / np.sqrt(spread))


def _slope_upper(loads: FloatArray, rate: FloatArray, se: FloatArray) -> float:
    slope, slope_se = _slope(loads, rate, se)
    return slope + 1.645 * slope_se


def _think_s(levels: Sequence[Level]) -> float:
    requests = sum(lv.completions for lv in levels)
    return sum(lv.thinking / lv.completion_rate * lv.completions for lv in levels) / requests


def _reach(loads: FloatArray, rate: FloatArray, goal: float) -> float:
    """First load at which throughput, made monotone, reaches ``goal`` (linear between levels)."""
    rising = np.maximum.accumulate(rate)
    at = int(np.argmax(rising >= goal))
    if at == 0:
        return float(loads[0] * goal / rate[0])
    share = (goal - rising[at - 1]) / (rising[at] - rising[at - 1])
    return float(loads[at - 1] + share * (loads[at] - loads[at - 1]))


def _retrograde(loads: FloatArray, rate: FloatArray, se: FloatArray) -> Retrograde | None:
    peak, last = int(np.argmax(rate)), len(rate) - 1
    if peak == last:
        return None
    drop = 1 - rate[last] / rate[peak]
    deviations = (rate[peak] - rate[last]) / np.hypot(se[peak], se[last])
    if drop <= RETROGRADE_DROP or deviations <= RETROGRADE_DEVIATIONS:
        return None
    return Retrograde(float(loads[peak]), float(rate[peak]), float(drop), float(deviations))


def _peak(loads: FloatArray, rate: FloatArray, se: FloatArray) -> tuple[Estimate, Estimate]:
    """The peak of throughput over the levels around it that chance does not tell apart from it, and its place: from
    the first of them to the level after the last."""
    top = int(np.argmax(rate))
    alike = rate >= rate[top] - RETROGRADE_DEVIATIONS * np.hypot(se, se[top])
    first = top - int(np.argmin(np.append(alike[top::-1], False))) + 1
    end = top + int(np.argmin(np.append(alike[top:], False)))
    place = Estimate(float(loads[top]), float(loads[first]), float(loads[min(end, len(loads) - 1)]))
    return _plateau(rate[first:end], se[first:end]), place


def _ceiling(demands: Sequence[Demand], per_rate: float) -> Ceiling | None:
    """The ceiling of throughput, and of load: so much of it for each step per second."""
    bounded = [(d, d.ceiling) for d in demands if d.ceiling is not None]
    if not bounded:
        return None
    first, throughput = min(bounded, key=lambda pair: pair[1].value)
    return Ceiling(first.key, throughput, throughput.scaled(per_rate))


def _next_levels(loads: FloatArray, ceiling: Ceiling | None, hinge: Hinge, near: bool) -> tuple[float, ...]:
    """Two further levels that would settle the question."""
    step = float(np.median(np.diff(loads))) if len(loads) > 1 else float(loads[-1])
    goal = float(loads[-1]) + 2 * step
    if near:
        goal = max(goal, 1.5 * hinge.break_load)
    elif ceiling is not None:
        goal = max(goal, 1.3 * ceiling.load.value)
    middle = (float(loads[-1]) + goal) / 2
    digits = 0 if goal >= 10 else 1
    return (round(middle, digits), round(goal, digits))
