"""The limiting resource: named rightly, or not named."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core import analysis
from stonekettle.core.bottleneck import SHORT, LimitingResource
from stonekettle.core.load_profile import LoadProfile
from stonekettle.core.objectives import BreakingPoint
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import RunData
from stonekettle.core.types import Declined, Reason
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import Twin, simulate
from stonekettle.practice.unfit import Blocked, Laborious, Loop
from tests.conftest import climb, one_server_system, visits

PROFILE = climb(20, 180, 20)


def limit_of(run: RunData, profile: LoadProfile = PROFILE) -> LimitingResource:
    found = analysis.analyse(run, as_planned(profile), [], 0.05).limiting
    assert isinstance(found, LimitingResource)
    return found


def test_the_fullest_hardware_is_named_with_its_demand_and_the_next_in_line() -> None:
    config = PracticeConfig(
        (Component("front", cpus=2), Component("store", cpus=2)),
        (Route("GET", "/", (Visit("front", 8), Visit("store", 20))),),
    )
    found = limit_of(simulate(config, visits(1.0), PROFILE))
    assert found.cause == "hardware"
    assert found.resource is not None
    assert found.resource.key == "store.cpu"
    assert found.resource.utilisation > 0.95
    assert found.resource.demand is not None
    assert found.resource.demand.demand_s.value == pytest.approx(0.020, rel=0.06)
    assert found.resource.full_from is not None
    assert found.next_in_line == "front.cpu"
    assert found.next_throughput == pytest.approx(250, rel=0.08)


def test_a_full_pool_over_idle_hardware_is_named() -> None:
    config = one_server_system(20, servers=8, pool=2)
    found = limit_of(simulate(config, visits(1.0), PROFILE))
    assert found.cause == "pool"
    assert found.resource is not None
    assert found.resource.key == "shop.connections"


def test_an_unseen_limit_is_said_to_be_unseen() -> None:
    run = simulate(one_server_system(20, servers=8, pool=2), visits(1.0), PROFILE)
    blind = replace(run, resources=tuple(r for r in run.resources if not r.is_pool))
    assert limit_of(blind).cause == "unmetered"


def test_far_from_saturation_nothing_is_named() -> None:
    profile = climb(5, 40, 5)
    found = limit_of(simulate(one_server_system(20, servers=2), visits(1.0), profile), profile)
    assert found.cause == "none"
    assert found.next_in_line == "shop.cpu"


def test_falling_throughput_without_a_full_resource_is_contention() -> None:
    run = simulate(one_server_system(2, servers=8), visits(1.0), PROFILE)
    factor = np.where(run.planned_users > 120, 0.5, 1.0)
    completed = (run.completed * factor[:, None]).astype(np.int64)
    # The missing users wait somewhere, so that Little's law still holds.
    waiting = run.in_flight + run.users * (1 - factor) * 0.95
    fallen = replace(run, completed=completed, in_flight=waiting)
    assert limit_of(fallen).cause == "contention"


def late(
    config: PracticeConfig, generators: Loop, profile: LoadProfile = PROFILE, think_s: float = 1.0
) -> analysis.Analysis:
    """What is found with such generators."""
    twin = Twin(config, visits(think_s), loop=generators)
    return analysis.analyse(twin.run(as_planned(profile)), as_planned(profile), [], 0.05, [twin.requests()])


def each(every_s: float, blocked_s: float, start_s: float = 0.0, end_s: float = 300.0) -> Blocked:
    count = round((end_s - start_s) / every_s)
    return Blocked([(start_s + k * every_s, start_s + k * every_s + blocked_s) for k in range(count)])


def claimed(found: analysis.Analysis, cause: str, throughput: float, load: float) -> None:
    """The cause is named, and the limit and its place lie within their intervals."""
    assert isinstance(found.limiting, LimitingResource)
    assert found.limiting.cause == cause
    assert not isinstance(found.saturation, Declined)
    assert found.saturation.throughput is not None
    assert found.saturation.load is not None
    assert found.saturation.throughput.low < throughput < found.saturation.throughput.high
    assert found.saturation.load.low < load < found.saturation.load.high
    assert found.measuring.verdict == "blurred"


@pytest.mark.parametrize("blocked_s", [0.12, 0.15])
def test_what_falls_under_load_that_was_there_is_not_for_want_of_it(blocked_s: float) -> None:
    """A lock holds the system at 57 steps/s with 40 users, and by 100 it does a third. The generators stand still half
    of the time at 40 and 50 users, and are there at all others."""
    system = one_server_system(30, servers=8, lock_ms=14, lock_growth=0.03)
    found = late(system, each(0.25, blocked_s, 60, 100), climb(10, 100, 10, 20), 0.5)
    assert max(lv.shift for lv in found.levels) > 0.1
    claimed(found, "contention", 57, 40)


def test_what_stopped_growing_long_before_the_load_did_is_not_for_want_of_it() -> None:
    """Two connections that no meter sees bear 100 steps/s, full from 102 users on. Of up to 180 users the generators
    miss 3 %."""
    twin = Twin(one_server_system(20, servers=8, pool=2), visits(1.0), loop=each(3.0, 0.3))
    run = twin.run(as_planned(PROFILE))
    blind = replace(run, resources=tuple(r for r in run.resources if not r.is_pool))
    found = analysis.analyse(blind, as_planned(PROFILE), [], 0.05, [twin.requests()])
    assert found.levels[-1].shift > SHORT
    claimed(found, "unmetered", 100, 102)


@pytest.mark.parametrize(("every_s", "blocked_s"), [(0.5, 0.1), (0.5, 0.2), (3.0, 0.5)])
def test_a_pool_that_is_full_at_two_levels_tells_the_limit_whoever_was_missing(
    every_s: float, blocked_s: float
) -> None:
    """Two connections bear 100 steps/s. Of the users on the plateau the generators miss up to 9 %."""
    claimed(late(one_server_system(20, servers=8, pool=2), each(every_s, blocked_s)), "pool", 100, 102)


def test_generators_that_are_late_alike_at_all_loads_hold_nothing_back() -> None:
    """Eight servers bear 400 steps/s: 180 users, of whom 4 % are late, are far from that."""
    found = late(one_server_system(20, servers=8), each(3.0, 0.5))
    assert found.measuring.shift > SHORT
    assert isinstance(found.limiting, LimitingResource)
    assert found.limiting.cause == "none"
    assert not isinstance(found.saturation, Declined)
    assert found.saturation.status == "not reached"
    top = found.levels[-1]
    assert found.saturation.at_least == pytest.approx(top.present - top.overdue - top.blind)
    assert found.trustworthy


def test_what_falls_where_the_generators_stood_still_may_be_for_want_of_load() -> None:
    found = late(one_server_system(2, servers=8), each(0.5, 0.45, 140, 200), climb(10, 100, 10, 20), 0.5)
    assert isinstance(found.limiting, LimitingResource)
    assert found.limiting.cause != "contention"


def test_a_full_processor_whose_answers_fail_late_is_overloaded_and_not_in_contention() -> None:
    """Beyond saturation at 102 users ever more answers fail after their work was done: at 180 users 84 % of it."""
    run = simulate(one_server_system(20, servers=2), visits(1.0), PROFILE)
    share = np.interp(run.planned_users, [110, 180], [0.0, 0.84])[:, None]
    errors = np.random.default_rng(1).binomial(run.completed, share)
    found = limit_of(replace(run, errors=errors))
    assert found.cause == "overload"
    assert found.resource is not None
    assert found.resource.key == "shop.cpu"
    assert found.in_vain == pytest.approx(0.84, abs=0.03)


def test_refusals_that_cost_nothing_are_no_work_in_vain() -> None:
    run = simulate(one_server_system(20, servers=2, refuse_over=30), visits(1.0), PROFILE)
    found = limit_of(run)
    assert found.cause == "hardware"
    assert found.in_vain is None


def test_a_generator_short_of_its_load_is_named_where_no_resource_is_full() -> None:
    found = late(one_server_system(2, servers=8), Laborious(0.01))
    assert not found.trustworthy
    assert found.saturation == Declined(Reason.GENERATOR, pytest.approx(50, abs=3))
    assert isinstance(found.limiting, LimitingResource)
    assert found.limiting.cause == "generator"


def test_errors_at_loads_that_a_generator_was_short_of_are_no_breaking_point() -> None:
    twin = Twin(one_server_system(2, servers=8), visits(1.0), loop=Laborious(0.01))
    run = twin.run(as_planned(PROFILE))
    failing = run.completed // 5
    late = np.arange(run.seconds) >= run.seconds * 0.8
    failing[~late] = 0
    found = analysis.analyse(replace(run, errors=failing), as_planned(PROFILE), [], 0.05, [twin.requests()])
    sound = max(lv.load.delivered for lv in found.levels if lv.shift <= 0.02)
    assert found.breaking == Declined(Reason.GENERATOR, sound)
    # Where the load was there, they are.
    early = run.completed // 5
    early[: run.seconds // 20] = 0
    assert isinstance(
        analysis.analyse(replace(run, errors=early), as_planned(PROFILE), [], 0.05, [twin.requests()]).breaking,
        BreakingPoint,
    )


def test_a_full_resource_explains_the_limit_whatever_the_generator_did() -> None:
    found = late(one_server_system(20, servers=2), Laborious(0.0045))
    assert found.measuring.shift > 0.02
    assert isinstance(found.limiting, LimitingResource)
    assert found.limiting.cause == "hardware"
    assert found.limiting.resource is not None
    assert found.limiting.resource.key == "shop.cpu"


def test_the_generator_is_named_even_when_no_level_is_left() -> None:
    profile = climb(200, 1000, 200, 9)
    found = late(one_server_system(2, servers=8), Laborious(0.01), profile)
    assert not found.levels
    assert isinstance(found.limiting, LimitingResource)
    assert found.limiting.cause == "generator"
