"""What a run knows of its system: against the truth of the system that was played."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest

from stonekettle.core.analysis import Analysis, analyse
from stonekettle.core.distribution import Law
from stonekettle.core.known import Known, known, pooled
from stonekettle.core.orders import as_planned
from stonekettle.core.serving import Station
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate
from tests.conftest import climb

SYSTEM = PracticeConfig(
    (Component("web", instances=2, cpus=1), Component("store", cpus=2, pool=8), Component("mail", metered=False)),
    (
        Route("GET", "/", (Visit("web", 8),)),
        Route("GET", "/buy", (Visit("web", 4), Visit("store", 30))),
    ),
)
JOURNEYS = (
    TwinJourney(
        "visit",
        1.0,
        (TwinStep("GET /", Law("exponential", 1.0)), TwinStep("GET /buy", Law("exponential", 1.0))),
    ),
)
NAMES = ["visit / look", "visit / buy"]
INSTANCES = {"web": 2, "store": 1, "mail": 1}


@pytest.fixture(scope="module")
def found() -> Analysis:
    profile = climb(20, 140, 40)
    return analyse(simulate(SYSTEM, JOURNEYS, profile, seed=3), as_planned(profile), (), 0.05)


@pytest.fixture(scope="module")
def told(found: Analysis) -> Known:
    one = known(found, NAMES, INSTANCES)
    assert one is not None
    return one


def test_demands_servers_and_think_time_are_those_of_the_system(told: Known) -> None:
    by_key = {station.key: station for station in told.system.stations}
    assert set(by_key) == {"web.cpu", "store.cpu"}
    assert by_key["web.cpu"].servers == 1
    assert by_key["store.cpu"].servers == 2
    assert by_key["web.cpu"].demand_s == pytest.approx(0.006, rel=0.1)
    assert by_key["store.cpu"].demand_s == pytest.approx(0.015, rel=0.1)
    assert told.system.think_s == pytest.approx(1.0, rel=0.1)
    assert [step.share for step in told.system.steps] == pytest.approx([0.5, 0.5], abs=0.02)
    assert told.light_use < 0.35
    assert not told.left_out


def test_a_pool_is_told_by_how_long_it_is_held(told: Known) -> None:
    (pool,) = told.pools
    assert (pool.component, pool.places) == ("store", 8)
    # Half of the steps hold a place for 30 ms.
    assert pool.held_s == pytest.approx(0.015, rel=0.3)


def test_the_step_that_waits_at_the_store_is_told_by_the_levels(told: Known) -> None:
    keys = [station.key for station in told.system.stations]
    look, buy = (step.waits[keys.index("store.cpu")] for step in told.system.steps)
    assert look < 0.4
    assert buy == pytest.approx(2.0, abs=0.8)
    asked = [step.asks[keys.index("store.cpu")] for step in told.system.steps]
    assert asked == pytest.approx([0.0, 2.0], abs=0.15)


def test_times_told_by_servers_say_which_step_asks_where(found: Analysis) -> None:
    spent = {(0, "web"): 0.008, (1, "web"): 0.004, (1, "store"): 0.03}
    told = known(found, NAMES, INSTANCES, spent)
    assert told is not None
    assert told.by_servers
    keys = [station.key for station in told.system.stations]
    look, buy = told.system.steps
    assert look.asks[keys.index("store.cpu")] == 0
    assert buy.asks[keys.index("store.cpu")] == pytest.approx(2.0, rel=0.05)
    assert look.asks[keys.index("web.cpu")] == pytest.approx(8 / 6, rel=0.05)


def test_a_run_without_demands_knows_nothing(found: Analysis) -> None:
    assert known(replace(found, demands=()), NAMES, INSTANCES) is None
    assert known(replace(found, levels=()), NAMES, INSTANCES) is None


def test_several_runs_are_as_uncertain_as_they_differ(told: Known) -> None:
    def with_demand(value: float, error: float) -> Known:
        stations = (Station("web.cpu", "web", 1, value, error), told.system.stations[1])
        return replace(told, system=replace(told.system, stations=stations))

    alike = pooled([with_demand(0.010, 0.02), with_demand(0.010, 0.02)])
    apart = pooled([with_demand(0.010, 0.02), with_demand(0.013, 0.02)])
    assert alike.system.stations[0].demand_s == pytest.approx(0.010)
    assert alike.system.stations[0].error == pytest.approx(0.02 / math.sqrt(2), rel=0.05)
    assert apart.system.stations[0].demand_s == pytest.approx(math.sqrt(0.010 * 0.013), rel=0.01)
    assert apart.system.stations[0].error > 0.15
