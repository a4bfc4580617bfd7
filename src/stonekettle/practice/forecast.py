"""What would a load see? The curves of a twin's system, exact for the closed network that its service demands make
(Buzen 1973), or the open one where people arrive by rate (Jackson 1957), with the band that their errors leave."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from stonekettle.core.load import LoadKind
from stonekettle.core.queueing import open_response_s, throughput_at
from stonekettle.core.types import Estimate, FloatArray
from stonekettle.plan.models import Plan
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.truth import Truth, compute, mix_of
from stonekettle.practice.twin import TwinJourney

POINTS = 48
NEARLY_FULL = 0.98
"""Nearer to its limit an open system takes longer the longer its load lasts: no curve tells how long."""


@dataclass(frozen=True)
class Curve:
    """A figure against load, with its band; shape (points,) each."""

    value: FloatArray
    low: FloatArray
    high: FloatArray


@dataclass(frozen=True)
class Forecast:
    """Against ``load`` (users, or arrivals per second): steps per second, mean response time (s; NaN where no curve
    tells), and the utilisation of each resource by key; with the saturation point on that axis and the resource that
    would set it."""

    kind: LoadKind
    load: FloatArray
    throughput: Curve
    response_s: Curve
    utilisation: Mapping[str, FloatArray]
    saturation: Estimate
    limiting: str


def mixed(plan: Plan, journeys: Sequence[TwinJourney]) -> list[TwinJourney]:
    """The journeys with the weights that all groups together give them, by how much of the load each is."""
    weights = np.zeros(len(journeys))
    for group in plan.people:
        shares = np.array(plan.weights_of(group))
        if shares.sum() > 0:
            weights += group.profile.area * (group.journeys_each or 1) * shares / shares.sum()
    return [TwinJourney(j.name, float(w), j.steps) for j, w in zip(journeys, weights, strict=True)]


def steps_per_arrival(plan: Plan) -> float:
    """How many steps a person takes who arrives, over all groups that do."""
    arriving = [group for group in plan.people if group.arrives]
    steps = [plan.round_of(group)[0] * (group.journeys_each or 1) for group in arriving]
    return float(np.average(steps, weights=[group.profile.area for group in arriving]))


def forecast(
    systems: tuple[PracticeConfig, PracticeConfig, PracticeConfig],
    journeys: Sequence[TwinJourney],
    peak: float,
    steps_each: float | None = None,
) -> Forecast:
    """The forecast for loads up to ``peak`` users, or arrivals per second of people who take ``steps_each``; of a
    system as it is, and with its demands at their low and high ends."""
    mix, think_s = mix_of(journeys)
    truths = [compute(config, mix, think_s) for config in systems]
    load = np.unique(np.round(np.linspace(1, max(2.0, peak), POINTS)))
    if steps_each is not None:
        load = np.linspace(0, peak, POINTS + 1)[1:]
        curves = [_open_curves(truth, load * steps_each) for truth in truths]
        points = [truth.throughput_limit / steps_each for truth in truths]
    else:
        curves, points = [_curves(truth, load) for truth in truths], [truth.users for truth in truths]
    throughput, response_s = zip(*curves, strict=True)
    return Forecast(
        "users" if steps_each is None else "arrivals",
        load,
        _curve(throughput),
        _curve(response_s),
        {key: np.minimum(1.0, throughput[0] * use) for key, use in _use(systems[0], truths[0]).items()},
        Estimate(points[0], min(points), max(points)),
        truths[0].limiting,
    )


def _curves(truth: Truth, users: FloatArray) -> tuple[FloatArray, FloatArray]:
    throughput = throughput_at(truth.stations, truth.think_s, users)
    return throughput, users / throughput - truth.think_s


def _open_curves(truth: Truth, rates: FloatArray) -> tuple[FloatArray, FloatArray]:
    limit = truth.throughput_limit
    told = [open_response_s(truth.stations, rate) if rate < NEARLY_FULL * limit else np.nan for rate in rates]
    return np.minimum(rates, limit), np.array(told)


def _curve(ends: Sequence[FloatArray]) -> Curve:
    known = np.where(np.isnan(ends[0]), np.nan, ends)
    # An end that no curve tells any more leaves the band open there.
    return Curve(ends[0], np.fmin.reduce(known), np.fmax.reduce(known))


def _use(config: PracticeConfig, truth: Truth) -> dict[str, float]:
    """How busy each metered resource is for a step a second."""
    found = {}
    for component in config.components:
        for name, servers in (("cpu", component.cpus), ("disk", component.disks)):
            demand_s = truth.demands_s.get(f"{component.name}.{name}", 0.0)
            if component.metered and servers and demand_s > 0:
                found[f"{component.name}.{name}"] = demand_s / (servers * component.instances)
    return found
