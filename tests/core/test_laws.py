"""Little's law and the utilisation law, on data whose truth is known."""

from __future__ import annotations

import warnings
from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core import laws
from stonekettle.core.distribution import Law
from stonekettle.core.levels import measure
from stonekettle.core.orders import PlannedLevel, as_planned
from stonekettle.core.run_data import ResourceSeries
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate
from stonekettle.practice.unfit import Blocked
from tests.conftest import ROUTE, climb, one_server_system, steady_run, visits


def test_littles_law_holds_on_an_honest_run() -> None:
    (level,) = measure(steady_run(), [PlannedLevel(0, 60, 100)])
    check = laws.little(level)
    assert check.gap == pytest.approx(0, abs=1e-9)
    assert not check.broken
    assert not check.pause_s


def test_users_that_do_nothing_break_littles_law() -> None:
    run = steady_run()
    idle = replace(run, in_flight=run.in_flight * 0, users=run.users * 1.2, planned_users=run.users * 1.2)
    (level,) = measure(idle, [PlannedLevel(0, 60, 120)])
    assert laws.little(level).broken


def test_overdue_users_are_taken_off_the_load_exactly() -> None:
    run = steady_run(users=104)
    late = replace(run, overdue=np.full(60, 4.0))
    (level,) = measure(late, [PlannedLevel(0, 60, 104)])
    assert laws.little(level).gap == pytest.approx(0, abs=1e-9)


def test_a_stall_of_the_generator_breaks_no_law_and_is_no_pause_of_the_system() -> None:
    profile = climb(50, 50, 1, 60)
    run = simulate(one_server_system(5), visits(1.0), profile, loop=Blocked([(25, 28)]))
    (level,) = measure(run, as_planned(profile).levels())
    check = laws.little(level)
    assert level.longest_gap_s == pytest.approx(3.0, abs=0.1)
    assert level.overdue > 0.5
    assert not check.broken
    assert not check.pause_s


def test_a_pause_of_the_system_is_told_from_one_of_the_generator() -> None:
    profile = climb(50, 50, 1, 60)
    run = simulate(one_server_system(5), visits(1.0), profile, loop=Blocked([(25, 28)]))
    # The same gap in starts, but the generator was there.
    (level,) = measure(replace(run, stalls=np.zeros((0, 2))), as_planned(profile).levels())
    assert laws.little(level).pause_s == pytest.approx(3.0, abs=0.1)


@pytest.mark.parametrize("seed", range(8))
def test_fixed_think_times_break_no_law(seed: int) -> None:
    config, profile = one_server_system(20, servers=4), climb(40, 400, 40, 30)
    journeys = [TwinJourney("visit", 1.0, (TwinStep(ROUTE, Law("fixed", 8.0)),))]
    run = simulate(config, journeys, profile, seed=seed)
    checks = [laws.little(level) for level in measure(run, as_planned(profile).levels())]
    assert len(checks) >= 8
    assert not any(check.gross for check in checks)
    assert sum(check.broken for check in checks) <= 1


def test_healthy_runs_of_every_think_time_are_seldom_flagged() -> None:
    """One run in fifty may be: of 30 at most two, whatever the law, and none stands still."""
    flagged = paused = 0
    laws_of_thinking = [Law("fixed", 2.0), Law("uniform", 2.0, 1.0), Law("lognormal", 2.0, variation=1.5)]
    for seed in range(30):
        journeys = [TwinJourney("visit", 1.0, (TwinStep(ROUTE, laws_of_thinking[seed % 3]),))]
        profile = climb(15, 150, 15, 20)
        run = simulate(one_server_system(30, servers=2), journeys, profile, seed=seed)
        checks = laws.obeyed(measure(run, as_planned(profile).levels()))
        flagged += any(check.broken for check in checks)
        paused += any(check.pause_s > 0 for check in checks)
    assert flagged <= 2
    assert paused <= 1


def test_long_services_of_a_few_users_are_no_pause() -> None:
    """Three users, one in a hundred services over ten times the mean: all three may be at long ones at once."""
    config = replace(one_server_system(400, servers=3), service_law="hyperexponential", service_variation=3.0)
    profile = climb(3, 3, 1, 90)
    gaps = []
    for seed in range(12):
        levels = measure(simulate(config, visits(0.2), profile, seed=seed), as_planned(profile).levels())
        gaps += [check.pause_s for check in laws.obeyed(levels)]
    assert not any(gaps)


def test_work_for_steps_that_fail_is_work() -> None:
    """A quarter of the visits fails after its work of 20 ms: each success carries a third of a failure along."""
    config, profile = one_server_system(20, servers=2, fails=0.25), climb(10, 80, 10, 40)
    run = simulate(config, visits(1.0), profile, seed=3)
    found = laws.demand(run.resources[0], measure(run, as_planned(profile).levels()))
    assert found is not None
    assert found.ceiling is not None
    assert found.demand_s.value == pytest.approx(0.020 / 0.75, rel=0.03)
    assert found.ceiling.low < 75 < found.ceiling.high


def test_what_failures_cost_is_told_from_what_successes_cost() -> None:
    """Beyond a crowd of 20 half of the visits fail after their work: a failure costs what a success does."""
    config, profile = one_server_system(20, servers=2, fails=0.5, fails_over=20), climb(20, 200, 20, 30)
    run = simulate(config, visits(1.0), profile, seed=3)
    found = laws.demand(run.resources[0], measure(run, as_planned(profile).levels()))
    assert found is not None
    assert found.demand_s.value == pytest.approx(0.020, rel=0.05)
    assert found.failed_s == pytest.approx(0.020, rel=0.10)


def test_refusals_that_cost_nothing_leave_the_demand_alone() -> None:
    config, profile = one_server_system(20, servers=2, refuse_over=12), climb(20, 300, 20, 20)
    run = simulate(config, visits(1.0), profile, seed=3)
    found = laws.demand(run.resources[0], measure(run, as_planned(profile).levels()))
    assert found is not None
    assert found.demand_s.value == pytest.approx(0.020, rel=0.04)
    assert found.failed_s == pytest.approx(0.0, abs=0.0025)


def test_demand_is_recovered_within_its_interval() -> None:
    config = one_server_system(20, servers=2)
    profile = climb(10, 80, 10, 40)
    run = simulate(config, visits(1.0), profile)
    found = laws.demand(run.resources[0], measure(run, as_planned(profile).levels()))
    assert found is not None
    assert found.demand_s.value == pytest.approx(0.020, rel=0.04)
    assert found.ceiling is not None
    assert found.ceiling.low < 100 < found.ceiling.high


def test_background_load_is_told_from_demand() -> None:
    config = one_server_system(20, servers=2)
    profile = climb(10, 60, 10, 40)
    run = simulate(config, visits(1.0), profile)
    resource = run.resources[0]
    busy = replace(resource, utilisation=np.clip(resource.utilisation + 0.2, 0, 1))
    loaded = replace(run, resources=(busy, *run.resources[1:]))
    found = laws.demand(busy, measure(loaded, as_planned(profile).levels()))
    assert found is not None
    assert found.background == pytest.approx(0.2, abs=0.04)
    assert found.demand_s.value == pytest.approx(0.020, rel=0.1)


def test_a_resource_that_does_not_grow_has_no_demand() -> None:
    profile = climb(10, 60, 10, 30)
    run = simulate(one_server_system(10), visits(1.0), profile)
    flat = replace(run.resources[0], utilisation=np.linspace(0.5, 0.3, run.seconds))
    assert laws.demand(flat, measure(replace(run, resources=(flat,)), as_planned(profile).levels())) is None


def test_demand_is_the_same_whatever_instances_come_and_go() -> None:
    profile = climb(20, 120, 20, 30)
    run = simulate(one_server_system(service_ms=20, servers=4), visits(2.0), profile, cpu_noise=0)
    cpu = run.resources[0]
    # Half of the servers are there in the first half: as much work, twice the share.
    doubled = np.where(np.arange(run.seconds) < run.seconds / 2, 2.0, 4.0)
    halved = replace(cpu, capacity=doubled, utilisation=cpu.utilisation * 4 / doubled)
    levels = as_planned(profile).levels()
    always = laws.demand(cpu, measure(run, levels))
    found = laws.demand(halved, measure(replace(run, resources=(halved,)), levels))
    assert always is not None
    assert found is not None
    assert found.demand_s.value == pytest.approx(always.demand_s.value, rel=0.02)
    assert found.servers == 4
    assert found.ceiling is not None
    assert always.ceiling is not None
    assert found.ceiling.value == pytest.approx(always.ceiling.value, rel=0.02)


def test_what_steps_cost_is_told_also_where_the_throughput_never_changes() -> None:
    """A system that has aged is judged by its highest loads alone, and those may all do the same work."""
    busy = 0.5 + 0.02 * np.sin(np.arange(120.0))
    ledger = ResourceSeries("ledger", "cpu", "cpu", np.full(120, 1.0), busy)
    run = steady_run(seconds=120, resources=(ledger,))
    levels = measure(run, [PlannedLevel(30 * k, 30 * k + 30, 100) for k in range(4)])
    with warnings.catch_warnings(action="error"):
        cost = laws.latest_demand(ledger, levels)
    assert cost is not None
    assert cost.demand_s.value == pytest.approx(0.5 / 50, rel=0.02)
    assert cost.correlation == 0
