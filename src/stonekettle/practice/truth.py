"""What should an analysis of the practice system find?

Computed from the configuration alone: service demands, the throughput limit, the saturation
point, the response curve (exact solution of the closed network) and the limiting resource. Used
by tests and benchmarks to judge findings; never by the analysis.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from stonekettle.core.queueing import ClosedSolution, Station, flow_equivalent, solve, throughput_limit
from stonekettle.practice.config import Component, PracticeConfig, PracticeConfigError
from stonekettle.practice.twin import TwinJourney

MOST_AT_A_LOCK = 4_000
POOL_BINDS = 0.93
"""A pool that keeps the hardware behind it under this share of its own limit is the limit."""


@dataclass(frozen=True)
class Truth:
    """Known properties under a mix of routes. Rates per second, times in seconds."""

    throughput_limit: float
    light_response_s: float
    think_s: float
    limiting: str
    demands_s: Mapping[str, float]
    stations: tuple[Station, ...]

    @property
    def users(self) -> float:
        """The saturation point N* = X_max · (R₁ + Z)."""
        return self.throughput_limit * (self.light_response_s + self.think_s)

    def curve(self, users: int) -> ClosedSolution:
        """Throughput and response time for 1..``users`` users."""
        return solve(self.stations, self.think_s, users)


def mix_of(journeys: Sequence[TwinJourney]) -> tuple[dict[str, float], float]:
    """The share of each route among all steps, by the journeys' weights, and the mean think time (s)."""
    weights: dict[str, float] = {}
    think = 0.0
    for journey in journeys:
        for step in journey.steps:
            weights[step.route] = weights.get(step.route, 0.0) + journey.weight
            think += journey.weight * step.think.mean_s
    total = sum(weights.values())
    return {route: weight / total for route, weight in weights.items()}, think / total


def compute(config: PracticeConfig, mix: Mapping[str, float], think_s: float) -> Truth:
    """The truth for requests spread over routes by ``mix`` (route name → share, adding up to 1)."""
    for component in config.components:
        if component.slow_factor != 1.0:
            raise PracticeConfigError(
                f"components: {component.name!r} has a slow instance, whose truth has no closed form"
            )
    demands: dict[str, float] = {}
    for route in config.routes:
        for visit in route.visits:
            component = config.component(visit.component)
            held_ms, cpu_ms = component.lock_ms, visit.cpu_ms * component.shared_work(component.instances)
            for resource, mean_ms in (("cpu", cpu_ms), ("disk", visit.disk_ms), ("lock", held_ms)):
                key = f"{visit.component}.{resource}"
                demands[key] = demands.get(key, 0.0) + mix.get(route.name, 0.0) * mean_ms / 1000
    stations: list[Station] = []
    for component in config.components:
        own = [
            Station.servers(f"{component.name}.{resource}", demands[key], servers * component.instances)
            for resource, servers in (("cpu", component.cpus), ("disk", component.disks))
            if demands.get(key := f"{component.name}.{resource}", 0.0) > 0
        ]
        if held_s := demands.get(f"{component.name}.lock"):
            own.append(_lock(component, held_s))
        stations.extend(_behind_pool(component.name, component.pool, own))
    limit = throughput_limit(stations)
    slowest = min(stations, key=lambda station: station.limit)
    return Truth(
        throughput_limit=limit,
        light_response_s=sum(demands.values()),
        think_s=think_s,
        limiting=slowest.name,
        demands_s=demands,
        stations=tuple(stations),
    )


def _lock(component: Component, held_s: float) -> Station:
    """One at a time, each held up by those who wait behind it."""
    inside = np.arange(1, MOST_AT_A_LOCK + 1)
    return Station(f"{component.name}.lock", 1 / (held_s * (1 + component.lock_growth * (inside - 1))))


def _behind_pool(name: str, pool: int | None, own: list[Station]) -> list[Station]:
    """The stations as they are, or one flow-equivalent station where a pool admits few.

    The pool is named as the limit only when it holds the hardware behind it below its own limit.
    """
    if pool is None or not own:
        return own
    together = flow_equivalent(f"{name}.connections", own, pool)
    slowest = min(own, key=lambda station: station.limit)
    if together.limit > POOL_BINDS * slowest.limit:
        return [Station(slowest.name, together.rates)]
    return [together]
