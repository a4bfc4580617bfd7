"""A twin of a system that was measured: its resources as stations with the service demands that a run found.

Demands are known per step on the average; which step takes how much of them is told by its response time at light
load. What no metered resource explains of that response time is a delay without a queue, since nothing measured says
otherwise: such a twin cannot know a limit that the run did not meet.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from stonekettle.core.analysis import Analysis
from stonekettle.core.run_data import Cell
from stonekettle.core.types import Declined
from stonekettle.plan.models import Plan
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import TwinJourney, TwinStep

HARDWARE_TOLD = ("cpu", "disk")
POOLS = ("pool", "threads")
ELSEWHERE = "elsewhere"
AMPLE = 100_000
"""Servers of what is a delay only."""
LEAST_MS = 0.01


@dataclass(frozen=True)
class MeasuredResource:
    """A resource as a run found it: its component, ``kind`` (cpu, disk, pool …), servers, and its demand in s a step
    (None of a pool, which takes as long as its component does), which may be off by the share ``error``."""

    component: str
    kind: str
    servers: float
    demand_s: float | None
    error: float = 0.0


@dataclass(frozen=True)
class MeasuredSystem:
    """What a run knows of a system: its resources, the mean response time at light load (s), and that of each step by
    (journey, step); and up to which load, and which rate of steps (1/s), it was measured."""

    resources: tuple[MeasuredResource, ...]
    response_s: float
    by_step: Mapping[tuple[str, str], float]
    measured_to: float = 0.0
    measured_rate: float = 0.0

    def with_demands(self, end: float) -> MeasuredSystem:
        """The same with every demand at an end of its interval: -1 the low one, 1 the high one."""
        resources = (
            r if r.demand_s is None else replace(r, demand_s=r.demand_s * max(0.05, 1 + end * r.error))
            for r in self.resources
        )
        return replace(self, resources=tuple(resources))

    @property
    def demand_s(self) -> float:
        return sum(resource.demand_s or 0.0 for resource in self.resources)


def system_of(analysis: Analysis, cells: Sequence[Cell]) -> MeasuredSystem | None:
    """What the findings of a run tell of its system; None where no demand is known. ``cells`` are those of its plan."""
    steady = [level for level in analysis.levels if not level.moving and level.completions]
    evidence = {} if isinstance(analysis.limiting, Declined) else {e.key: e for e in analysis.limiting.evidence}
    found = [
        MeasuredResource(
            evidence[d.key].component,
            evidence[d.key].kind,
            d.servers,
            max(0.0, d.demand_s.value),
            (d.demand_s.high - d.demand_s.low) / 2 / d.demand_s.value if d.demand_s.value > 0 else 0.0,
        )
        for d in analysis.demands
        if d.key in evidence and evidence[d.key].kind in HARDWARE_TOLD
    ]
    if not steady or not any(resource.demand_s for resource in found):
        return None
    pools = {
        e.component: MeasuredResource(e.component, "pool", e.servers, None)
        for e in evidence.values()
        if e.kind in POOLS
    }
    light = min(steady, key=lambda level: level.load.delivered)
    by_step: dict[tuple[str, str], float] = {}
    for step in light.steps:
        if step.completions:
            by_step.setdefault((cells[step.step].journey, cells[step.step].step), step.response_s)
    highest = max(level.load.delivered for level in steady)
    fastest = max(level.completion_rate for level in steady)
    return MeasuredSystem((*found, *pools.values()), light.response_s, by_step, highest, fastest)


def twin_of(plan: Plan, measured: MeasuredSystem) -> tuple[PracticeConfig, list[TwinJourney]]:
    """The measured system with a plan's steps as its routes, and the plan's journeys over them."""
    routes, journeys, number = [], [], 0
    for journey in plan.journeys:
        steps = []
        for step in journey.active:
            path = f"/{number}"
            routes.append(Route("GET", path, _visits(measured, measured.by_step.get((journey.name, step.name)))))
            steps.append(TwinStep(f"GET {path}", plan.think_of(step).as_law(), step.time_limit))
            number += 1
        journeys.append(TwinJourney(journey.name, journey.weight, tuple(steps)))
    components = (*_components(measured.resources), Component(ELSEWHERE, cpus=AMPLE, metered=False))
    return PracticeConfig(tuple(components), tuple(routes)), journeys


def _components(resources: Sequence[MeasuredResource]) -> list[Component]:
    found: dict[str, dict[str, int | None]] = {}
    for resource in resources:
        own = found.setdefault(resource.component, {"cpus": 0, "disks": 0, "pool": None})
        size = max(1, round(resource.servers))
        if resource.kind == "pool":
            own["pool"] = size
        else:
            own["disks" if resource.kind == "disk" else "cpus"] = size
    return [Component(name, memory_mb=0, **sizes) for name, sizes in found.items()]  # type: ignore[arg-type]


def _visits(measured: MeasuredSystem, response_s: float | None) -> tuple[Visit, ...]:
    """A step's way through the system: its share of each demand, and of what no resource explains."""
    share = 1.0 if response_s is None else response_s / measured.response_s
    by_component: dict[str, dict[str, float]] = {}
    for resource in measured.resources:
        if resource.demand_s is not None:
            own = by_component.setdefault(resource.component, {"cpu": 0.0, "disk": 0.0})
            own["disk" if resource.kind == "disk" else "cpu"] += 1000 * share * resource.demand_s
    visits = [Visit(name, own["cpu"], own["disk"]) for name, own in by_component.items()]
    rest_ms = 1000 * share * max(0.0, measured.response_s - measured.demand_s)
    return (*visits, Visit(ELSEWHERE, max(LEAST_MS, rest_ms)))
