"""Where does throughput stop growing, and may that be claimed?

Definition: N* = X_max · (R₁ + Z), with X_max the throughput limit, R₁ the response time at light
load and Z the think time per step (Denning & Buzen 1978; Lazowska 1984); where people arrive by rate, X_max over
the steps that one arrival brings; where a share of the steps fails at light load already, more by as much. X_max and R₁
are the best estimates from all levels and the demands (:mod:`limit`).

Where throughput falls beyond its peak there is no plateau: claimed are the peak, its place, and the fall.

The claim is made only when N* was passed, the interval of X_max is narrow, and saturation shows: a resource that is
full at the highest level and by its demand sets the limit; or the curve, a hinge min(aN, aB) fitted by weighted
least squares over a scan of breaks B: a parametric bootstrap's 95th percentile of the break lies below the
second-last level *and* the upper bound of the slope over the last three levels is under half the initial slope. An
interval without such a gate would cover a third of the truth it promises.

Load is what was delivered. As the generator may have been blind for b̄₁ of a response at light load,
N* lies between X_max·(R₁ − b̄₁ + Z) and X_max·(R₁ + Z): its interval holds both. Where over 5 % of the
users on the plateau were overdue or blind, the plateau is only a lower bound: X_max then lies between it
and the hardware's ceiling where that is close by, and is what throughput was at levels where a pool was full; it is
not claimed where neither tells.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy import special

from stonekettle.core import changes, limit, peak
from stonekettle.core.changes import Change
from stonekettle.core.hinge import Hinge, bootstrap_breaks, fit_hinge
from stonekettle.core.laws import Demand
from stonekettle.core.levels import LEAST_DELIVERED, Level, usual_success
from stonekettle.core.peak import Retrograde
from stonekettle.core.types import BoolArray, Declined, Estimate, FloatArray, Reason

MIN_LEVELS = 4
OWN_FALL = 0.7
EARLY = 0.4
"""Of a system that changed with time, such a share of the levels is of another one."""
BEYOND = 1.1
GATHER_FROM, GATHER_ERROR = 0.9, 0.03
"""Around the break users begin to gather in some steps, and throughput of all of them may be so much off."""
FLAT = 0.5
NEAR_EFFICIENCY = 0.65
DISAGREEMENT = 0.10
ANOTHER = 0.10
"""Throughput that differs by more on a later visit to a load is another system's."""
REGULAR = 0.5
"""A full resource lets its work go regularly: counts spread so much of what chance would (found in simulation)."""
AGEING = 0.2
"""Of what changed in a run, such a share may have changed while it was at its limit."""
FULL = 0.90
"""A resource that is named by its demand as what limits shows it by so much utilisation."""
ROOM, FEW_ERRORS, PROPORTION = 0.8, 0.02, 0.85
"""A level carries that saturation was not reached by so much room and so few errors, or such proportion."""
WIDEST = 0.12
"""With a wider half of its interval, as a share of it, the limit is not claimed."""
CURVE_POINTS = 80
MOST_SHIFT = 0.05
"""With a larger share of the plateau's users overdue or blind, the limit is not claimed."""


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
    over the last third of the levels as a share of the initial slope. ``resource`` is the one whose utilisation law
    speaks for the limit too; ``plateau_share`` is how much of what is known of it levels tell, the rest that law.
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
    resource: str | None = None
    plateau_share: float = 1.0


class Fits:
    """What the laws make of levels, by the ``demands`` measured: worked out once for those that are asked for again,
    since it is dear."""

    def __init__(self, demands: Sequence[Demand]) -> None:
        self._demands = demands
        self._known: dict[tuple[int, ...], limit.Limit] = {}

    def best(self, levels: Sequence[Level], hinge: Hinge) -> limit.Limit:
        numbers = tuple(level.number for level in levels)
        if numbers not in self._known:
            self._known[numbers] = _best(levels, hinge, self._demands)
        return self._known[numbers]


def find(
    levels: Sequence[Level],
    demands: Sequence[Demand] = (),
    seed: int = 1,
    *,
    changed: Sequence[Change] = (),
    metered: Sequence[str] = (),
    pools: Sequence[str] = (),
    fits: Fits | None = None,
) -> Saturation | Declined:
    """The saturation point of a run, or what stands in the way of claiming one.

    Of a system that ``changed`` meanwhile, what is claimed is true at the highest loads only, and less sure.
    ``metered`` are the keys of what can be full, by which a few levels tell that nothing was; ``pools`` those of
    pools."""
    levels = _of_one_state(_latest(levels) if changes.aged(changed) else levels)
    if len(levels) < MIN_LEVELS:
        return _of_few(levels, metered)
    loads, rate, se = _measured(levels)
    if rate.max() <= 0:
        return Declined(Reason.NO_SUCCESS, float(loads.max()))
    hinge = fit_hinge(loads, rate, se)
    initial = float(np.average(rate[:2] / loads[:2], weights=(loads[:2] / se[:2]) ** 2))
    last = max(3, len(levels) // 3)
    slope, slope_se = _slope(loads[-last:], rate[-last:], se[-last:])
    flat = _slope_upper(loads[-3:], rate[-3:], se[-3:]) < FLAT * initial
    breaks = bootstrap_breaks(loads, rate, se, np.random.default_rng(seed))
    settled = float(np.percentile(breaks, 95)) < loads[-2]
    beyond, best = _beyond(loads, hinge), (fits or Fits(demands)).best(levels, hinge)
    retrograde = peak.retrograde(loads, rate, se)
    if retrograde is not None and changes.aged(changed) > OWN_FALL * retrograde.drop:
        # What it lost it lost with time, not to the load.
        retrograde = None
    per_rate = _load_of_each(levels, best, initial)
    if changes.interrupted(changed) > 0 and levels[0].load.kind == "users":
        # Whoever is not held up by other work has the response of most.
        undisturbed = per_rate.value - max(0.0, best.response_s - levels[0].p50_s)
        per_rate = replace(per_rate, low=min(per_rate.low, undisturbed))
    # Levels may have had more or fewer of the interruptions than their time's share.
    unsure = AGEING * changes.aged(changed) + changes.interrupted(changed) / 2
    best = replace(best, throughput=_less_sure(best.throughput, unsure))
    ceiling = _ceiling(demands, per_rate.value)
    efficiency = slope / initial
    near = hinge.aicc_gain > 4 and efficiency < NEAR_EFFICIENCY
    open_end = Saturation(
        status="near" if near else "not reached",
        throughput=None,
        load=None,
        load_95=None,
        at_least=levels[-1].load.surely,
        reached=float(rate.max()),
        initial_slope=initial,
        efficiency=efficiency,
        efficiency_upper=(slope + 1.645 * slope_se) / initial,
        light_response_s=best.response_s,
        think_s=_think_s(levels),
        hinge=hinge,
        ceiling=ceiling,
        ceiling_disagrees=False,
        retrograde=retrograde,
        next_levels=_next_levels(loads, ceiling, hinge, near),
        resource=best.resource,
        plateau_share=best.plateau_share,
    )
    if retrograde is not None:
        most, full = (ceiling.throughput.value, _is_full(levels, ceiling.key)) if ceiling else (None, False)
        rate_at_peak, place = peak.peak(loads, rate, se, most, initial, full=full)
        rate_at_peak, place = _of_load_missed(levels, rate_at_peak, place)
        return replace(open_end, status="peaked", throughput=rate_at_peak, load=place, next_levels=())
    throughput = best.throughput
    shows = (settled and flat) or _is_full(levels, best.resource)
    passed = float(loads[-1]) >= throughput.value * per_rate.value
    if not (shows and passed and throughput.high - throughput.low <= 2 * WIDEST * throughput.value):
        return open_end
    if max(lv.shift for lv, counted in zip(levels, beyond, strict=True) if counted) > MOST_SHIFT:
        by_a_pool = _by_a_full_pool(levels, *_in_planned_mix(levels, beyond, rate, se), pools)
        if by_a_pool is not None:
            throughput = by_a_pool
        elif ceiling is not None and ceiling.throughput.value <= (1 + DISAGREEMENT) * throughput.value:
            throughput = _up_to(throughput, ceiling.throughput)
        else:
            return replace(open_end, status="blurred", next_levels=())
    return replace(
        open_end,
        status="reached",
        throughput=throughput,
        load=_product(throughput, per_rate),
        load_95=_reach(loads, rate, 0.95 * throughput.value),
        ceiling_disagrees=ceiling is not None and abs(ceiling.throughput.value / throughput.value - 1) > DISAGREEMENT,
        next_levels=(),
    )


def _of_load_missed(levels: Sequence[Level], throughput: Estimate, place: Estimate) -> tuple[Estimate, Estimate]:
    """A peak and its place, as unsure as the generators make them: with the load that they missed a level would have
    done more in proportion at best, and what they were blind for may not have been load at the highest one."""
    best = max(lv.throughput / max(1 - lv.shift, LEAST_DELIVERED) for lv in levels)
    at = max(levels, key=lambda lv: lv.throughput).load
    return replace(throughput, high=max(throughput.high, best)), replace(place, low=min(place.low, at.surely))


def _of_few(levels: Sequence[Level], metered: Sequence[str]) -> Saturation | Declined:
    """Too few levels for a curve tell at least how far it was not reached: up to the highest level at which everything
    that is metered had room, or whose throughput kept in proportion to the lowest one's."""
    highest = max((lv.load.delivered for lv in levels), default=None)
    if not levels or levels[0].throughput <= 0:
        return Declined(Reason.TOO_FEW_LEVELS, highest)
    initial = levels[0].throughput / levels[0].load.delivered
    carried = [lv for lv in levels if _has_room(lv, metered) or (lv is not levels[0] and _in_proportion(lv, levels[0]))]
    if not carried:
        return Declined(Reason.TOO_FEW_LEVELS, highest)
    top = carried[-1]
    return Saturation(
        status="not reached",
        throughput=None,
        load=None,
        load_95=None,
        at_least=top.load.surely,
        reached=top.throughput,
        initial_slope=initial,
        efficiency=top.throughput / top.load.delivered / initial,
        efficiency_upper=1.0,
        light_response_s=levels[0].response_s,
        think_s=_think_s(levels),
        hinge=Hinge(initial, top.load.delivered, 0.0, 0.0),
        ceiling=None,
        ceiling_disagrees=False,
        retrograde=None,
        next_levels=tuple(round(top.load.delivered * k, 0 if top.load.delivered >= 10 else 1) for k in (1.5, 2, 3)),
    )


def _has_room(level: Level, metered: Sequence[str]) -> bool:
    told = [used for key in metered if math.isfinite(used := level.utilisation.get(key, math.nan))]
    return bool(told) and max(told) < ROOM and level.error_ratio < FEW_ERRORS


def _in_proportion(level: Level, lowest: Level) -> bool:
    more = level.load.delivered / lowest.load.delivered
    low = level.throughput - 1.645 * level.throughput_se
    return more > 1.2 and low >= PROPORTION * more * (lowest.throughput + 1.645 * lowest.throughput_se)


def response_curve(
    levels: Sequence[Level], demands: Sequence[Demand], fits: Fits | None = None
) -> limit.Response | None:
    """The mean response at loads in users by the closed network that fits best.

    None where there is no such curve: with too few levels, where people arrive by rate, and where throughput falls
    beyond a peak."""
    levels = _of_one_state(levels)
    if len(levels) < MIN_LEVELS or levels[0].load.kind == "arrivals":
        return None
    loads, rate, se = _measured(levels)
    if rate.min() <= 0 or peak.retrograde(loads, rate, se) is not None:
        return None
    response = (fits or Fits(demands)).best(levels, fit_hinge(loads, rate, se)).response
    # Of one resource too few blocks tell it: services are taken to vary alike everywhere. One that is hardly used shows
    # the noise of its readings instead.
    told = [(d.variation2, 1 / d.ceiling.value) for d in demands if d.ceiling is not None and d.ceiling.value > 0]
    if not told:
        return response
    variation2, use = zip(*told, strict=True)
    return replace(response, variation2=float(np.average(variation2, weights=use)))


@dataclass(frozen=True)
class Curves:
    """What the laws say of throughput (per second) and the mean response (s) over the loads that were measured, four
    arrays of shape (k,): the asymptotic ``bounds`` min(N/(R₁ + Z), X_max), and, None where there is no such curve, what
    the closed network with the measured demands would do."""

    loads: FloatArray
    bounds: FloatArray
    throughput: FloatArray | None
    response_s: FloatArray | None


def curves(levels: Sequence[Level], demands: Sequence[Demand], found: Saturation) -> Curves:
    """The laws' curves from the lowest level to the highest, through what was ``found`` of the limit."""
    loads: FloatArray = np.linspace(*_ends(levels), CURVE_POINTS)
    share, _ = usual_success(levels)
    users = levels[0].load.kind == "users"
    slope = share / (found.light_response_s + found.think_s) if users else found.initial_slope
    most = found.throughput or (found.ceiling.throughput if found.ceiling else None)
    bounds = np.minimum(loads * slope, most.value if most else np.inf)
    response = response_curve(levels, demands)
    if response is None:
        return Curves(loads, bounds, None, None)
    response_s = response.curve(loads)
    return Curves(loads, bounds, share * loads / (response_s + found.think_s), response_s)


def _ends(levels: Sequence[Level]) -> tuple[float, float]:
    loads = [level.load.delivered for level in levels]
    return min(loads), max(loads)


def _measured(levels: Sequence[Level]) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Load, throughput and its standard error at each level."""
    rate = np.array([lv.throughput for lv in levels])
    se = np.maximum(np.array([lv.throughput_se for lv in levels]), 1e-9 + 1e-4 * rate)
    return np.array([lv.load.delivered for lv in levels]), rate, se


def _best(levels: Sequence[Level], hinge: Hinge, demands: Sequence[Demand]) -> limit.Limit:
    loads, rate, se = _measured(levels)
    beyond = _beyond(loads, hinge)
    rate, se = _in_planned_mix(levels, beyond, rate, se)
    return limit.best(levels, rate, se, demands, float(np.average(rate[beyond], weights=1 / se[beyond] ** 2)))


def _load_of_each(levels: Sequence[Level], best: limit.Limit, initial: float) -> Estimate:
    """How much load each success per second is, before anybody waits for another: R₁ + Z over the share that succeeds.

    As much less as the generator may have been blind at light load."""
    if levels[0].load.kind == "arrivals":
        return Estimate(1 / initial, 1 / initial, 1 / initial)
    blind, reach = levels[0].blind_s, 1.645 * best.response_se_s
    lone = best.response_s + _think_s(levels)
    share, share_se = usual_success(levels)
    reach = math.hypot(reach, 1.645 * lone * share_se / share)
    return Estimate((lone - blind / 2) / share, (lone - blind - reach) / share, (lone + reach) / share)


def _less_sure(estimate: Estimate, share: float) -> Estimate:
    """With an error of such a share of it besides."""
    low = math.hypot(estimate.value - estimate.low, share * estimate.value)
    high = math.hypot(estimate.high - estimate.value, share * estimate.value)
    return Estimate(estimate.value, max(0.0, estimate.value - low), estimate.value + high, estimate.confidence)


def _product(throughput: Estimate, per_rate: Estimate) -> Estimate:
    """N* with the errors of both, which know nothing of each other."""
    value = throughput.value * per_rate.value
    low, high = (
        value * math.hypot(t / throughput.value, p / per_rate.value)
        for t, p in (
            (throughput.value - throughput.low, per_rate.value - per_rate.low),
            (throughput.high - throughput.value, per_rate.high - per_rate.value),
        )
    )
    return Estimate(value, max(0.0, value - low), value + high)


def _is_full(levels: Sequence[Level], resource: str | None) -> bool:
    return resource is not None and levels[-1].utilisation.get(resource, 0.0) >= FULL


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
    loads = np.array([lv.load.delivered for lv in levels])
    gathering = ~beyond & (loads > loads[beyond].min() / BEYOND * GATHER_FROM)
    se[gathering] = np.hypot(se[gathering], GATHER_ERROR * rate[gathering])
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
    reach = float(special.stdtrit(k + 2, 0.95)) * math.sqrt(max(1.0, chi2) / float(weight.sum()))
    return Estimate(mean, max(0.0, mean - reach), mean + reach)


def _by_a_full_pool(levels: Sequence[Level], rate: FloatArray, se: FloatArray, pools: Sequence[str]) -> Estimate | None:
    """The limit of throughput by the highest levels, where at two or more of them the same pool was full: it had work
    all the time, whoever was missing."""
    for pool in pools:
        full = np.array([lv.fills(pool) for lv in levels])
        if full[-1] and full.sum() >= 2:
            used = np.minimum([lv.utilisation[pool] for lv, counted in zip(levels, full, strict=True) if counted], 1.0)
            found = _plateau(rate[full], se[full])
            return Estimate(found.value / float(used.mean()), found.low, found.high / float(used.min()))
    return None


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


def _latest(levels: Sequence[Level]) -> Sequence[Level]:
    """Of a system that changed with time, the later levels, among them the return to a lower load."""
    ordered = sorted(levels, key=lambda lv: lv.start_s)
    later = ordered[int(EARLY * len(ordered)) :]
    return later if len(later) > MIN_LEVELS else levels


def _of_one_state(levels: Sequence[Level]) -> list[Level]:
    """In order of load, without later visits to a load in which throughput is another than on the way up: a system
    that an overload has left in another state, or that time has changed, is no longer the one that was climbed."""
    found: list[Level] = []
    for level in sorted(levels, key=lambda lv: lv.start_s):
        before = sorted((lv for lv in found if lv.start_s < level.start_s), key=lambda lv: lv.load.delivered)
        if len(before) >= 2 and level.load.delivered < before[-1].load.delivered:
            loads, rates = [lv.load.delivered for lv in before], [lv.throughput for lv in before]
            usual = float(np.interp(level.load.delivered, [0.0, *loads], [0.0, *rates]))
            if abs(level.throughput - usual) > max(ANOTHER * usual, peak.RETROGRADE_DEVIATIONS * level.throughput_se):
                continue
        found.append(level)
    return sorted(found, key=lambda lv: lv.load.delivered)


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
