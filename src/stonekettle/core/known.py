"""What does a run know of its system, for planning another one of it?

Of each resource what a step costs there; of each step how long it takes at light load, and by how much longer it took
at each level: all of it stands in the findings. Which step asks how much of which resource is told by the time that
servers say they spent on it (``Server-Timing``), where they do, and otherwise guessed by how long the step takes and
where it waits.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource, ResourceEvidence
from stonekettle.core.laws import Demand
from stonekettle.core.levels import Level, StepLevel
from stonekettle.core.objectives import Z_90
from stonekettle.core.pooling import random_effects
from stonekettle.core.run_data import SOFTWARE
from stonekettle.core.serving import Seen, SeenLevel, Station, Step, System, light_quantiles, weights
from stonekettle.core.types import FloatArray

LIGHT = 0.3
"""No resource fuller: next to nobody waits."""
LEAST_ANSWERS = 30
LEAST_ERROR, MOST_ERROR = 0.01, 0.5
VISITED = 0.02
"""A step that spends a smaller share of the mean step's time at a component does not come by it."""


@dataclass(frozen=True)
class Pool:
    """A pool of a component, of ``places`` in all: a step of the mix holds one for ``held_s`` on the mean where nobody
    waits."""

    key: str
    component: str
    places: float
    held_s: float


@dataclass(frozen=True)
class Known:
    """A system as a run knows it, with the ``instances`` it had: measured up to a load, and a rate of steps (1/s). At
    the level that counts as light its fullest resource was ``light_use`` full. ``left_out`` are steps with too few
    answers there; ``by_servers``: whether servers told where the time of steps goes."""

    system: System
    instances: Mapping[str, int]
    pools: tuple[Pool, ...]
    tested_load: float
    tested_rate: float
    light_use: float
    left_out: tuple[str, ...]
    by_servers: bool


def known(
    analysis: Analysis,
    names: Sequence[str],
    instances: Mapping[str, int],
    server_s: Mapping[tuple[int, str], float] | None = None,
) -> Known | None:
    """What a run's findings know; ``names`` are those of its steps, ``instances`` how many each component had.
    ``server_s`` is the mean time (s) of a step, by its place, in a component. None where no demand is known, or no
    level is told."""
    levels = sorted(
        (lv for lv in analysis.levels if not lv.moving and lv.completions), key=lambda lv: lv.load.delivered
    )
    if not isinstance(analysis.limiting, LimitingResource) or not levels:
        return None
    evidence = {e.key: e for e in analysis.limiting.evidence}
    demands = [d for d in analysis.hardware_demands if d.key in evidence and d.demand_s.value > 0 and d.servers > 0]
    if not demands:
        return None
    light = _light(levels, demands)
    told = {step.step: step for step in light.steps if step.completions - step.errors >= LEAST_ANSWERS}
    if not told:
        return None
    done = sum(step.completions for step in told.values())
    shares = np.array([told[k].completions / done if k in told else 0.0 for k in range(len(names))])
    stations = tuple(_station(d, evidence[d.key], instances) for d in demands)
    comes_by, asks = _by_step(stations, shares, told, server_s or {})
    seen = tuple(
        SeenLevel(lv.completion_rate, np.array([_servers(d, lv) for d in demands]), _seen(lv, told, len(names)))
        for lv in (light, *(lv for lv in levels if lv.load.delivered > light.load.delivered))
    )
    waits = weights(stations, seen, comes_by)
    if not server_s:
        # Who does not wait at a station as others do does not come by it, and asks nothing there.
        asks = asks * waits
        asks = asks / np.maximum(shares @ asks, 1e-9)
    steps = tuple(
        Step(name, float(share), _quantiles(told[k]), waits[k], asks[k], _error(told[k]))
        if k in told
        else Step(name, 0.0, np.full(1, light.response_s), np.ones(len(stations)), np.ones(len(stations)))
        for k, (name, share) in enumerate(zip(names, shares.tolist(), strict=True))
    )
    think_s = light.thinking / light.completion_rate if light.completion_rate else 0.0
    return Known(
        System(tuple(instances), stations, steps, think_s),
        dict(instances),
        tuple(_pools(evidence.values(), light)),
        max(lv.load.delivered for lv in levels),
        max(lv.completion_rate for lv in levels),
        _fullest(light, demands),
        tuple(name for k, name in enumerate(names) if k not in told),
        bool(server_s),
    )


def pooled(runs: Sequence[Known]) -> Known:
    """What several runs of the same system know together, the steps as the first one saw them. Demands are the mean of
    their logs, each by its error, and as uncertain as they differ from run to run (DerSimonian & Laird 1986)."""
    first = runs[0]
    stations = []
    for station in first.system.stations:
        own = [s for one in runs for s in one.system.stations if s.key == station.key]
        logs, variance = np.log([s.demand_s for s in own]), np.array([max(s.error, LEAST_ERROR) ** 2 for s in own])
        value, error = random_effects(logs, variance)
        stations.append(replace(station, demand_s=math.exp(value), error=error))
    return replace(
        first,
        system=replace(first.system, stations=tuple(stations)),
        tested_load=max(one.tested_load for one in runs),
        tested_rate=max(one.tested_rate for one in runs),
    )


def _light(levels: Sequence[Level], demands: Sequence[Demand]) -> Level:
    """Of the levels at which nothing is busy the one with the most answers; the lowest where there is none."""
    light = [lv for lv in levels if _fullest(lv, demands) <= LIGHT and not lv.errors * 20 > lv.completions]
    return max(light, key=lambda lv: lv.completions, default=levels[0])


def _fullest(level: Level, demands: Sequence[Demand]) -> float:
    told = [level.utilisation.get(d.key, math.nan) for d in demands]
    return max((use for use in told if math.isfinite(use)), default=0.0)


def _station(demand: Demand, evidence: ResourceEvidence, instances: Mapping[str, int]) -> Station:
    per = demand.servers / max(1, instances.get(evidence.component, 1))
    value = demand.demand_s.value
    error = min(MOST_ERROR, max(LEAST_ERROR, demand.demand_s.standard_error / value))
    return Station(demand.key, evidence.component, per, value, error, min(0.8, max(0.0, demand.background)))


def _by_step(
    stations: Sequence[Station],
    shares: FloatArray,
    told: Mapping[int, StepLevel],
    server_s: Mapping[tuple[int, str], float],
) -> tuple[FloatArray, FloatArray]:
    """By how many times the mean step each step comes by each station, and how much it asks there."""
    took = np.array([told[k].response_s if k in told else 0.0 for k in range(shares.size)])
    by_time = np.where(shares > 0, took / max(float(shares @ took), 1e-9), 1.0)
    comes_by, asks = np.ones((shares.size, len(stations))), np.tile(by_time[:, None], (1, len(stations)))
    for s, station in enumerate(stations):
        spent = np.array([server_s.get((k, station.component), 0.0) for k in range(shares.size)])
        mean = float(shares @ spent)
        if mean <= 0:
            continue
        visits = (spent > VISITED * mean).astype(np.float64)
        comes_by[:, s] = visits / max(float(shares @ visits), 1e-9)
        asks[:, s] = spent / mean
    return comes_by, asks


def _servers(demand: Demand, level: Level) -> float:
    told = level.capacity.get(demand.key, math.nan)
    return told if told > 0 else demand.servers


def _seen(level: Level, told: Mapping[int, StepLevel], steps: int) -> tuple[Seen | None, ...]:
    own = {s.step: s for s in level.steps if s.completions - s.errors >= LEAST_ANSWERS}
    return tuple(Seen(own[k].response_s, own[k].completions) if k in own and k in told else None for k in range(steps))


def _quantiles(step: StepLevel) -> FloatArray:
    return light_quantiles(step.p50_s, step.p95_s, step.p99_s)


def _error(step: StepLevel) -> float:
    """The relative standard error of a step's times at light load: of its 95th percentile."""
    low, high = step.intervals.get("p95", (math.nan, math.nan))
    if not (low > 0 and math.isfinite(high)):
        return min(MOST_ERROR, 2 / math.sqrt(max(1, step.completions)))
    return min(MOST_ERROR, max(LEAST_ERROR, math.log(high / low) / 2 / Z_90))


def _pools(evidence: Iterable[ResourceEvidence], light: Level) -> list[Pool]:
    found = []
    for e in evidence:
        use, places = light.utilisation.get(e.key, math.nan), light.capacity.get(e.key, math.nan)
        if e.kind in SOFTWARE and use > 0 and places > 0 and light.completion_rate > 0:
            found.append(Pool(e.key, e.component, places, use * places / light.completion_rate))
    return found
