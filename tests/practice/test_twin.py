"""The twin obeys the exact solution of the same network."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core.distribution import Law
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned
from stonekettle.practice import truth
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import Twin, TwinJourney, TwinStep, simulate
from stonekettle.practice.unfit import Blocked, Laborious
from tests.conftest import ROUTE, one_server_system, visits

TWO_STATIONS = PracticeConfig(
    (Component("front", cpus=2), Component("store", cpus=3, disks=1)),
    (Route("GET", "/", (Visit("front", 8), Visit("store", 20, disk_ms=4))),),
)


@pytest.mark.parametrize("users", [40, 120, 220])
def test_throughput_and_response_match_the_exact_solution(users: int) -> None:
    exact = truth.compute(TWO_STATIONS, {ROUTE: 1.0}, 1.0).curve(users)
    run = simulate(TWO_STATIONS, visits(1.0), LoadProfile((Segment.hold(users, 240),)), seed=2)
    settled = slice(30, 240)
    throughput = run.completed[settled].sum() / 210
    response = run.response_sum_s[settled].sum() / run.completed[settled].sum()
    assert throughput == pytest.approx(exact.throughput[-1], rel=0.025)
    assert response == pytest.approx(exact.response_s[-1], rel=0.15)


def test_a_pool_holds_throughput_down() -> None:
    config = one_server_system(20, servers=8, pool=2)
    run = simulate(config, visits(1.0), LoadProfile((Segment.hold(200, 120),)))
    assert run.completed[30:].sum() / 90 == pytest.approx(100, rel=0.03)
    pool = next(r for r in run.resources if r.is_pool)
    assert pool.waiting is not None
    assert pool.utilisation[30:].mean() > 0.99
    assert pool.waiting[30:].mean() > 50
    cpu = next(r for r in run.resources if r.name == "cpu")
    assert cpu.utilisation[30:].mean() == pytest.approx(2 / 8, abs=0.02)


def test_utilisation_obeys_the_utilisation_law() -> None:
    run = simulate(TWO_STATIONS, visits(1.0), LoadProfile((Segment.hold(80, 200),)), cpu_noise=0)
    rate = run.completed[20:].sum() / 180
    by_key = {r.key: r for r in run.resources}
    assert by_key["store.cpu"].utilisation[20:].mean() == pytest.approx(rate * 0.020 / 3, rel=0.05)
    assert by_key["front.cpu"].utilisation[20:].mean() == pytest.approx(rate * 0.008 / 2, rel=0.05)


def test_littles_law_holds_exactly_in_the_arrays() -> None:
    run = simulate(TWO_STATIONS, visits(2.0), LoadProfile((Segment.hold(100, 300),)))
    settled = slice(20, 300)
    thinking = run.completed[settled].sum() / 280 * 2.0
    assert run.in_flight[settled].mean() + thinking == pytest.approx(100, rel=0.03)
    assert np.allclose(run.users[5:], 100)


def test_overload_is_refused_at_once_when_asked() -> None:
    config = one_server_system(20, servers=2, refuse_over=10)
    run = simulate(config, visits(1.0), LoadProfile((Segment.hold(200, 60),)))
    assert run.errors.sum() > 500
    assert run.error_kinds["status 503"].sum() == run.errors.sum()
    assert run.in_flight.max() < 60


def test_a_stall_shows_in_gaps_and_overdue_users() -> None:
    run = simulate(one_server_system(5), visits(1.0), LoadProfile((Segment.hold(50, 40),)), loop=Blocked([(20, 22)]))
    assert run.start_gap_s.max() == pytest.approx(2.0, abs=0.1)
    assert run.overdue.sum() > 30
    assert run.stalls.tolist() == [[20, 22]]


def test_answers_during_a_stall_are_bracketed() -> None:
    config, profile = one_server_system(300, servers=99), LoadProfile((Segment.hold(99, 40),))
    twin, fit = Twin(config, visits(1.0), loop=Blocked([(20, 26)])), simulate(config, visits(1.0), profile)
    run, kept = twin.run(as_planned(profile)), twin.requests()
    late = kept.response_us > 5_500_000
    assert late.sum() > 5
    assert np.median((kept.response_us - kept.blind_us)[late]) < 600_000
    assert run.blind.sum() > 0
    assert fit.blind.sum() == 0


def test_a_laborious_loop_delays_by_what_it_has_to_do() -> None:
    loop = Laborious(0.010)
    assert loop.handled(1.0) == (1.0, 1.0)
    assert loop.handled(1.004) == (pytest.approx(1.010), 1.0)
    assert loop.handled(1.006) == (pytest.approx(1.020), 1.0)
    when, since = loop.handled(1.015)
    assert when == pytest.approx(1.030)
    assert since == pytest.approx(1.010)
    assert loop.handled(2.0) == (2.0, 2.0)


def test_the_mix_of_journeys_is_kept() -> None:
    config = PracticeConfig(
        (Component("shop", cpus=8),),
        (Route("GET", "/a", (Visit("shop", 1),)), Route("GET", "/b", (Visit("shop", 1),))),
    )
    think = Law("exponential", 0.5)
    journeys = [
        TwinJourney("a", 3, (TwinStep("GET /a", think),)),
        TwinJourney("b", 1, (TwinStep("GET /b", think),)),
    ]
    run = simulate(config, journeys, LoadProfile((Segment.hold(50, 60),)))
    a, b = run.completed.sum(axis=0)
    assert a / (a + b) == pytest.approx(0.75, abs=0.01)


def test_the_same_seed_gives_the_same_run() -> None:
    profile = LoadProfile((Segment.hold(20, 20),))
    first, second = (simulate(TWO_STATIONS, visits(0.5), profile, seed=9) for _ in range(2))
    assert np.array_equal(first.completed, second.completed)
    assert np.array_equal(first.response_sum_s, second.response_sum_s)
