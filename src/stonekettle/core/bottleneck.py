"""What sets the limit?

Ordered rules, the first match wins, and each leaves the figures it used (after the bottleneck
analysis of Denning & Buzen 1978). "Top" is the mean of the last two levels, or the level of the
peak when throughput falls beyond it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.laws import Demand
from stonekettle.core.levels import POOL_FULL, POOL_WAITING, Level
from stonekettle.core.run_data import HARDWARE, SOFTWARE, ResourceSeries, RunData
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import FloatArray

SHORT = 0.02
"""Load delivered short of that ordered by a larger share, with no resource to explain it, is the generator's."""
BUSY = 0.93
STRONG = 0.85
NEAR_THE_TOP = 0.75
CONTENTION_DEVIATIONS = 4.0
CEILING_REACH = 1.08
SATURATED_EFFICIENCY = 0.5
NEAR_STRETCH = 1.5
GREW, KEPT_UP = 1.5, 0.9
"""Throughput keeps up with a load that grew by so much if it has at least this share of what proportion would bring."""
FAILING, IN_VAIN = 0.05, 0.2
"""An overload: so many of its answers fail, and so much of its work has come to nothing."""

Cause = Literal["generator", "hardware", "overload", "pool", "contention", "unmetered", "none"]


@dataclass(frozen=True)
class ResourceEvidence:
    """One resource at the top load: utilisation, waiting, demand, when it filled, and whether its
    load follows the response time (Spearman rank correlation over the levels)."""

    key: str
    component: str
    name: str
    kind: str
    servers: float
    utilisation: float
    waiting: float | None
    demand: Demand | None
    full_from: float | None
    response_correlation: float | None


@dataclass(frozen=True)
class LimitingResource:
    """The cause, the resource where one is named, and the evidence, busiest first.

    ``next_in_line`` is the resource that would fill next, with its ceiling in ``next_throughput``. In an overload
    ``in_vain`` is the share of the resource's work that no success came of, at the highest load.
    """

    cause: Cause
    resource: ResourceEvidence | None
    evidence: tuple[ResourceEvidence, ...]
    next_in_line: str | None
    next_throughput: float | None
    in_vain: float | None = None


def identify(
    run: RunData,
    levels: Sequence[Level],
    saturation: Saturation | None,
    demands: Sequence[Demand],
    shortfall: float,
) -> LimitingResource:
    """Name the limiting resource of a run from its levels, in any order.

    ``shortfall`` is the share of the load that was not delivered over the run, for one without levels.
    """
    levels = sorted(levels, key=lambda lv: lv.load.delivered)
    top = _top(levels, saturation)
    evidence = _evidence(run, levels, top, demands)
    hardware = {e.key for e in evidence if e.kind in HARDWARE}
    wasted = _overloaded(levels, saturation, [demand for demand in demands if demand.key in hardware])
    cause: Cause = "overload"
    resource: ResourceEvidence | None
    if wasted is not None:
        evidence = _evidence(run, levels, levels[-1:], demands)
        resource = next(e for e in evidence if e.key == wasted.key)
    else:
        cause, resource = _decide(evidence, levels, top, saturation, max(lv.shift for lv in top) if top else shortfall)
    following = _next(evidence, resource)
    ceiling = following.demand.ceiling if following and following.demand else None
    return LimitingResource(
        cause,
        resource,
        evidence,
        following.key if following else None,
        ceiling.value if ceiling else None,
        wasted.in_vain if wasted else None,
    )


@dataclass(frozen=True)
class _Wasted:
    key: str
    in_vain: float
    per_server_s: float


def _overloaded(levels: Sequence[Level], saturation: Saturation | None, demands: Sequence[Demand]) -> _Wasted | None:
    """The one of these resources that is full at the highest load and works in vain: answers fail there, and by what
    a failure costs it they take much of its work. Refusals that cost nothing take none."""
    if saturation is None or saturation.retrograde is None or levels[-1].error_ratio < FAILING:
        return None
    last = levels[-1]
    found = []
    for demand in demands:
        used = last.utilisation.get(demand.key, math.nan)
        failures = last.completion_rate - last.throughput
        if used >= BUSY and demand.failed_s is not None:
            in_vain = min(1.0, demand.failed_s * failures / (used * demand.servers))
            found.append(_Wasted(demand.key, in_vain, demand.per_server_s))
    # Of several that are full by then, the one that filled first.
    worst = max(found, key=lambda one: one.per_server_s, default=None)
    return worst if worst is not None and worst.in_vain > IN_VAIN else None


def _top(levels: Sequence[Level], saturation: Saturation | None) -> Sequence[Level]:
    if saturation is not None and saturation.retrograde is not None:
        peak = saturation.retrograde.peak_load
        return [min(levels, key=lambda lv: abs(lv.load.delivered - peak))]
    # A level far below the highest tells nothing of what limits there.
    return [lv for lv in levels[-2:] if lv.load.delivered >= NEAR_THE_TOP * levels[-1].load.delivered]


def _decide(
    evidence: tuple[ResourceEvidence, ...],
    levels: Sequence[Level],
    top: Sequence[Level],
    saturation: Saturation | None,
    shortfall: float,
) -> tuple[Cause, ResourceEvidence | None]:
    hardware = [e for e in evidence if e.kind in HARDWARE]
    busy = [e for e in hardware if e.utilisation >= BUSY]
    if busy:
        return "hardware", max(busy, key=lambda e: (round(e.utilisation, 2), _demand_s(e)))
    named = saturation.resource if saturation is not None and saturation.status == "reached" else None
    if named is not None and (by_its_law := next((e for e in hardware if e.key == named), None)):
        return "hardware", by_its_law
    pools = [
        e for e in evidence if e.kind in SOFTWARE and e.utilisation >= POOL_FULL and (e.waiting or 0.0) >= POOL_WAITING
    ]
    if pools:
        return "pool", max(pools, key=lambda e: e.waiting or 0.0)
    limited = saturation is not None and _limited(saturation, levels, top)
    if limited and (nearly := _nearly_full(hardware, levels)):
        return "hardware", nearly
    falls = saturation is not None and _falls(saturation)
    load_was_there = saturation is not None and _load_was_there(saturation, falls, levels[-1].load.surely)
    if shortfall > SHORT and not load_was_there and (limited or not _kept_up(levels)):
        return "generator", None
    if falls:
        return "contention", None
    return ("unmetered" if limited else "none"), None


def _falls(saturation: Saturation) -> bool:
    fall = saturation.retrograde
    return fall is not None and fall.deviations > CONTENTION_DEVIATIONS


def _load_was_there(saturation: Saturation, falls: bool, highest: float) -> bool:
    """Throughput falls or stopped growing, and not for want of load: at the highest level there surely was more of it
    than at the peak, or than at the saturation point, whatever the generators missed."""
    if saturation.retrograde is not None:
        return falls and highest > saturation.retrograde.peak_load
    return saturation.load is not None and highest > saturation.load.high


def _kept_up(levels: Sequence[Level]) -> bool:
    """Throughput grew in proportion to what was ordered: late as they were, the generators held nothing back."""
    if len(levels) < 2:
        return False
    by_order = sorted(levels, key=lambda lv: lv.load.ordered)
    lowest, highest = by_order[0], by_order[-1]
    more = highest.load.ordered / lowest.load.ordered
    most = lowest.throughput + 1.645 * np.nan_to_num(lowest.throughput_se)
    return more > GREW and highest.throughput >= KEPT_UP * more * most


def _nearly_full(hardware: Sequence[ResourceEvidence], levels: Sequence[Level]) -> ResourceEvidence | None:
    """The busiest resource that explains a limit though it reads short of full: little room by its demand."""
    reached = max(lv.throughput for lv in levels)
    for e in sorted(hardware, key=lambda e: -e.utilisation):
        ceiling = e.demand.ceiling if e.demand else None
        if e.utilisation > STRONG and ceiling and ceiling.value < CEILING_REACH * reached:
            return e
    return None


def _limited(saturation: Saturation, levels: Sequence[Level], top: Sequence[Level]) -> bool:
    """Saturated, or near it, by the shape of the throughput curve alone."""
    gain = saturation.hinge.aicc_gain
    if saturation.status in ("reached", "peaked", "blurred"):
        return True
    if gain > 2 and saturation.efficiency_upper < SATURATED_EFFICIENCY:
        return True
    stretch = float(np.mean([lv.response_s for lv in top])) / max(levels[0].response_s, 1e-9)
    return gain > 4 and saturation.efficiency < 0.65 and stretch > NEAR_STRETCH


def _evidence(
    run: RunData, levels: Sequence[Level], top: Sequence[Level], demands: Sequence[Demand]
) -> tuple[ResourceEvidence, ...]:
    by_key = {d.key: d for d in demands}
    found = [
        ResourceEvidence(
            key=resource.key,
            component=resource.component,
            name=resource.name,
            kind=resource.kind,
            servers=resource.servers,
            utilisation=_finite_mean([lv.utilisation.get(resource.key, math.nan) for lv in top])
            if top
            else _at_the_peak(run, resource),
            waiting=_finite_mean([lv.waiting[resource.key] for lv in top])
            if resource.waiting is not None and top
            else None,
            demand=by_key.get(resource.key),
            full_from=next((lv.load.delivered for lv in levels if lv.utilisation.get(resource.key, 0.0) >= BUSY), None),
            response_correlation=_correlation(levels, resource.key),
        )
        for resource in run.resources
        # Memory in use is a level, not work in progress: being full of it is another question.
        if resource.kind != "memory"
    ]
    return tuple(sorted(found, key=lambda e: -np.nan_to_num(e.utilisation)))


def _at_the_peak(run: RunData, resource: ResourceSeries) -> float:
    """Mean utilisation over the seconds planned within a tenth of the highest load, for a run without levels."""
    peak = run.planned_users >= 0.9 * run.planned_users.max(initial=0.0)
    return _finite_mean(resource.utilisation[peak].tolist())


def _next(evidence: Sequence[ResourceEvidence], limiting: ResourceEvidence | None) -> ResourceEvidence | None:
    others = [e for e in evidence if e.demand is not None and e.kind in HARDWARE and e is not limiting]
    return max(others, key=lambda e: e.demand.per_server_s if e.demand else 0.0, default=None)


def _demand_s(evidence: ResourceEvidence) -> float:
    return evidence.demand.per_server_s if evidence.demand else 0.0


def _correlation(levels: Sequence[Level], key: str) -> float | None:
    pairs = [(lv.response_s, lv.utilisation.get(key, math.nan)) for lv in levels]
    pairs = [pair for pair in pairs if all(map(math.isfinite, pair))]
    if len(pairs) < 4 or len({u for _, u in pairs}) < 2:
        return None
    response_s, utilisation = np.array(pairs).T
    return float(np.corrcoef(_ranks(response_s), _ranks(utilisation))[0, 1])


def _ranks(values: FloatArray) -> FloatArray:
    """From 1, the mean of their places for equal ones (Spearman 1904)."""
    _, place, times = np.unique(values, return_inverse=True, return_counts=True)
    ranks: FloatArray = np.cumsum(times) - (times - 1) / 2
    return ranks[place]


def _finite_mean(values: Sequence[float]) -> float:
    finite = [v for v in values if math.isfinite(v)]
    return sum(finite) / len(finite) if finite else math.nan
