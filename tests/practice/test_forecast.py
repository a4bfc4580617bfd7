"""Forecasts from a run at half load, against the truth of ten systems of other shapes."""

from __future__ import annotations

from random import Random

import numpy as np
import pytest

from stonekettle.core import analysis
from stonekettle.core.distribution import Law
from stonekettle.core.load_profile import LoadProfile, Segment, Target
from stonekettle.core.orders import as_planned
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice import measured
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.forecast import Forecast, forecast
from stonekettle.practice.truth import Truth, compute, mix_of
from stonekettle.practice.twin import Twin, TwinGroup, TwinJourney, TwinStep, journeys_of, simulate

NAMES = ("front", "shop", "stock")
SYSTEMS = 10


def plan_for() -> Plan:
    steps = [{"name": n, "request": f"GET /{n}", "think": "exponential 1 s"} for n in ("look", "pick", "pay")]
    return document.from_document(
        {
            "name": "p",
            "system": {"name": "s", "base_url": "http://127.0.0.1:1"},
            "journeys": [{"name": "Buy", "steps": steps}, {"name": "See", "steps": [{**steps[0], "name": "see"}]}],
            "load": [{"hold": {"users": 1, "for": "1 min"}}],
        }
    )


def system(random: Random) -> PracticeConfig:
    """Three components of random size; each step visits some of them, for random times."""
    components = tuple(Component(n, cpus=random.choice((1, 2, 4)), disks=int(n == "stock")) for n in NAMES)
    routes = tuple(
        Route(
            "GET",
            f"/{name}",
            (
                Visit("front", random.uniform(1, 8)),
                Visit("shop", random.uniform(2, 30)),
                Visit("stock", random.uniform(2, 30), disk_ms=random.uniform(0.5, 6)),
            ),
        )
        for name in ("look", "pick", "pay")
    )
    return PracticeConfig(components, routes, service_law=random.choice(("exponential", "lognormal")))


def at_half_load(seed: int) -> tuple[Forecast, Truth]:
    config, plan = system(Random(seed)), plan_for()
    journeys = journeys_of(plan)
    truth = compute(config, *mix_of(journeys))
    half = max(4, round(truth.users / 2))
    levels = [max(1, round(half * share)) for share in (0.4, 0.6, 0.8, 1.0)]
    profile = LoadProfile(tuple(Segment.hold(users, 60) for users in levels))
    seen = simulate(config, journeys, profile, seed=seed)
    cells = seen.cells
    steps = [(journey.name, step.name) for journey, step in plan.steps]
    told = analysis.analyse(seen, as_planned(profile), (), 0.05)
    named = [type(cell)(journey, step, cell.think_s) for cell, (journey, step) in zip(cells, steps, strict=True)]
    known = measured.system_of(told, named)
    assert known is not None
    made, made_journeys = measured.twin_of(plan, known)
    ends = [measured.twin_of(plan, known.with_demands(end))[0] for end in (-1, 1)]
    return forecast((made, ends[0], ends[1]), made_journeys, 2 * truth.users), truth


@pytest.fixture(scope="module")
def found() -> list[tuple[Forecast, Truth]]:
    return [at_half_load(seed) for seed in range(1, SYSTEMS + 1)]


def test_saturation_is_foretold_from_half_the_load(found: list[tuple[Forecast, Truth]]) -> None:
    errors = [abs(told.saturation.value / truth.users - 1) for told, truth in found]
    assert sorted(errors)[-1] < 0.15, errors


def test_what_will_limit_is_foretold(found: list[tuple[Forecast, Truth]]) -> None:
    right = [told.limiting == truth.limiting for told, truth in found]
    assert sum(right) >= SYSTEMS - 1, right


def test_the_curves_follow_the_truth_within_the_range_that_was_measured(found: list[tuple[Forecast, Truth]]) -> None:
    for told, truth in found:
        inside = (told.load >= 2) & (told.load <= truth.users / 2)
        real = truth.curve(int(told.load[inside][-1])).throughput[told.load[inside].astype(int) - 1]
        assert np.abs(told.throughput.value[inside] / real - 1).max() < 0.05
        assert (told.throughput.low <= told.throughput.value).all()
        assert (told.response_s.high >= told.response_s.value).all()


def test_people_who_arrive_wait_as_an_open_network_makes_them() -> None:
    """Two processors of 20 ms, three steps a person: full at 33.3 arrivals/s."""
    config = PracticeConfig((Component("shop", cpus=2),), (Route("GET", "/", (Visit("shop", 20),)),))
    step = TwinStep("GET /", Law("exponential", 0.2))
    journeys = [TwinJourney("Buy", 1.0, (step, step, step))]
    told = forecast((config, config, config), journeys, 40, 3.0)
    assert told.saturation.value == pytest.approx(100 / 3)
    inside = told.load < 0.95 * 100 / 3
    exact = 0.02 / (1 - (told.load[inside] * 3 / 100) ** 2)  # of M/M/2
    assert told.response_s.value[inside] == pytest.approx(exact, rel=1e-9)
    assert np.isnan(told.response_s.value[told.load > 34]).all()
    assert told.throughput.value[-1] == pytest.approx(100)
    rate = 25.0
    twin = Twin(config, journeys, seed=3, arrivals=("all",), groups={"all": TwinGroup(each=1)})
    twin.advance(400, {"all": Target.steady(rate)})
    run = twin.collected()
    seen = run.response_sum_s[50:].sum() / run.completed[50:].sum()
    assert seen == pytest.approx(float(np.interp(rate, told.load, told.response_s.value)), rel=0.1)
