"""What would a load see? The curves of a twin's system, exact for the closed network that its service demands make
(Buzen 1973), with the band that their errors leave."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from stonekettle.core.queueing import throughput_at
from stonekettle.core.types import Estimate, FloatArray
from stonekettle.plan.models import Plan
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.truth import Truth, compute, mix_of
from stonekettle.practice.twin import TwinJourney

POINTS = 48


@dataclass(frozen=True)
class Curve:
    """A figure against load, with its band; shape (points,) each."""

    value: FloatArray
    low: FloatArray
    high: FloatArray


@dataclass(frozen=True)
class Forecast:
    """Against ``users``: steps per second, mean response time (s), and the utilisation of each resource by key;
    with the saturation point in users and the resource that would set it."""

    users: FloatArray
    throughput: Curve
    response_s: Curve
    utilisation: Mapping[str, FloatArray]
    saturation: Estimate
    limiting: str


def mixed(plan: Plan, journeys: Sequence[TwinJourney]) -> list[TwinJourney]:
    """The journeys with the weights that all groups of users together give them, by how much of the load each is."""
    weights = np.zeros(len(journeys))
    for group in plan.people:
        shares = np.array(plan.weights_of(group))
        if not group.arrives and shares.sum() > 0:
            weights += group.profile.area * shares / shares.sum()
    return [TwinJourney(j.name, float(w), j.steps) for j, w in zip(journeys, weights, strict=True)]


def forecast(
    systems: tuple[PracticeConfig, PracticeConfig, PracticeConfig], journeys: Sequence[TwinJourney], peak: float
) -> Forecast:
    """The forecast for loads up to ``peak`` users, of a system as it is, and with its demands at their low and high
    ends."""
    mix, think_s = mix_of(journeys)
    likely, low, high = (compute(config, mix, think_s) for config in systems)
    users = np.unique(np.round(np.linspace(1, max(2.0, peak), POINTS)))
    throughput, response_s = zip(*(_curves(truth, users) for truth in (likely, low, high)), strict=True)
    ends = sorted((low.users, likely.users, high.users))
    return Forecast(
        users,
        _curve(throughput),
        _curve(response_s),
        {key: np.minimum(1.0, throughput[0] * use) for key, use in _use(systems[0], likely).items()},
        Estimate(likely.users, ends[0], ends[2]),
        likely.limiting,
    )


def _curves(truth: Truth, users: FloatArray) -> tuple[FloatArray, FloatArray]:
    throughput = throughput_at(truth.stations, truth.think_s, users)
    return throughput, users / throughput - truth.think_s


def _curve(ends: Sequence[FloatArray]) -> Curve:
    return Curve(ends[0], np.minimum.reduce(ends), np.maximum.reduce(ends))


def _use(config: PracticeConfig, truth: Truth) -> dict[str, float]:
    """How busy each metered resource is for a step a second."""
    found = {}
    for component in config.components:
        for name, servers in (("cpu", component.cpus), ("disk", component.disks)):
            demand_s = truth.demands_s.get(f"{component.name}.{name}", 0.0)
            if component.metered and servers and demand_s > 0:
                found[f"{component.name}.{name}"] = demand_s / (servers * component.instances)
    return found
