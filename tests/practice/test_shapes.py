"""Systems unlike the textbook obey what theory says of them, where it says anything."""

from __future__ import annotations

from dataclasses import replace
from random import Random

import numpy as np
import pytest

from stonekettle.core.distribution import Law
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.run_data import RunData
from stonekettle.core.types import FloatArray
from stonekettle.practice import truth
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.shapes import Pauses
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate
from tests.conftest import ROUTE, one_server_system


def held(config: PracticeConfig, users: int, seconds: int, think_s: float = 1.0, **step: float) -> RunData:
    journeys = [TwinJourney("visit", 1.0, (TwinStep(ROUTE, Law("exponential", think_s), **step),))]
    return simulate(config, journeys, LoadProfile((Segment.hold(users, seconds),)), seed=5, cpu_noise=0)


def rate(run: RunData, since: int = 20) -> float:
    return float(run.succeeded[since:].mean())


@pytest.mark.parametrize(
    ("law", "variation"),
    [
        (Law("hyperexponential", 0.02, variation=3.0), 3.0),
        (Law("pareto", 0.02), 3.15),
        (Law("lognormal", 0.02, variation=1.5), 1.5),
    ],
)
def test_laws_with_long_tails_keep_mean_and_variation(law: Law, variation: float) -> None:
    draw = law.sampler(Random(3))
    drawn = np.array([draw() for _ in range(400_000)])
    assert drawn.mean() == pytest.approx(0.02, rel=0.02)
    assert drawn.std() / drawn.mean() == pytest.approx(variation, rel=0.06)
    assert law.coefficient_of_variation == pytest.approx(variation, rel=0.01)


@pytest.mark.parametrize("law", ["exponential", "hyperexponential"])
def test_shared_processors_do_not_care_how_services_vary(law: str) -> None:
    """Processor sharing has the same throughput for every law of service with that mean (Baskett et al. 1975)."""
    config = PracticeConfig(
        (Component("app", cpus=2, sharing=True), Component("store", cpus=1, sharing=True)),
        (Route("GET", "/", (Visit("app", 20), Visit("store", 8))),),
        service_law=law,  # type: ignore[arg-type]
        service_variation=3.0,
    )
    exact = truth.compute(config, {ROUTE: 1.0}, 1.0).curve(110)
    run = held(config, 110, 500)
    assert rate(run) == pytest.approx(float(exact.throughput[-1]), rel=0.03)
    used = next(r for r in run.resources if r.key == "app.cpu").utilisation[20:].mean()
    assert used == pytest.approx(rate(run) * 0.020 / 2, rel=0.03)


def test_a_fork_waits_for_the_longer_of_two() -> None:
    """Of two exponential times of 40 and 60 ms the longer takes 40 + 60 − 24 ms on average."""
    config = PracticeConfig(
        (Component("a", cpus=9), Component("b", cpus=9)),
        (Route("GET", "/", (Visit("a", 40), Visit("b", 60, beside=True))),),
    )
    run = held(config, 20, 400)
    assert run.response_sum_s.sum() / run.completed.sum() == pytest.approx(0.076, rel=0.04)


def test_a_lock_has_the_throughput_of_its_closed_form_and_a_peak() -> None:
    config = PracticeConfig(
        (Component("app", cpus=8, lock_ms=10, lock_growth=0.02),), (Route("GET", "/", (Visit("app", 20),)),)
    )
    curve = truth.compute(config, {ROUTE: 1.0}, 0.3).curve(90)
    assert 25 < int(np.argmax(curve.throughput)) < 45
    for users in (20, 80):
        assert rate(held(config, users, 400, 0.3)) == pytest.approx(float(curve.throughput[users - 1]), rel=0.06)


def test_pauses_cost_the_time_they_take() -> None:
    pauses = Pauses(20.0, 1.0)
    assert pauses.worked(0, 40) == pytest.approx(38)
    assert pauses.ends(18.0, 2.0) == pytest.approx(21.0)
    assert Pauses(0.0, 0.0).ends(3.0, 2.0) == 5.0
    run = held(one_server_system(20, servers=2, pause_every_s=20, pause_s=1.0), 200, 220)
    assert rate(run) == pytest.approx(95, rel=0.03)


def test_a_job_takes_its_share_of_the_servers() -> None:
    config = one_server_system(20, servers=2, job_every_s=10, job_s=2.0, job_cpus=2)
    run = held(config, 200, 200)
    assert rate(run) == pytest.approx(80, rel=0.03)
    quiet = held(config, 5, 200)
    used = next(r for r in quiet.resources if r.key == "shop.cpu").utilisation[20:].mean()
    assert used == pytest.approx(0.2 + 0.02 * rate(quiet) / 2, rel=0.05)


def test_work_slows_down_and_warms_up() -> None:
    slow = held(one_server_system(20, servers=2, slows_per_minute=0.3), 200, 120)
    assert slow.succeeded[100:120].mean() / slow.succeeded[10:30].mean() == pytest.approx(1.1 / 1.55, rel=0.08)
    cold = held(one_server_system(20, servers=2, cold_factor=3.0, warms_over=1_500), 200, 200)
    assert cold.succeeded[1:6].mean() < 50
    assert cold.succeeded[150:].mean() == pytest.approx(100, rel=0.04)


def use_by_second(run: RunData, key: str) -> FloatArray:
    return next(r for r in run.resources if r.key == key).utilisation


def use(run: RunData, key: str, first: int, last: int) -> float:
    return float(next(r for r in run.resources if r.key == key).utilisation[first:last].mean())


def test_an_instance_becomes_slow_and_the_others_do_not() -> None:
    config = one_server_system(20, servers=2, instances=3, slow_factor=4.0, troubled_from_s=100.0)
    run = held(config, 30, 300)
    before, after = run.succeeded[20:100].mean(), run.succeeded[120:300].mean()
    cost = use(run, "shop.cpu", 120, 300) * after**-1 / (use(run, "shop.cpu", 20, 100) * before**-1)
    # Every third visit takes four times as long.
    assert cost == pytest.approx(2.0, rel=0.1)


def test_disks_are_slow_in_spells_at_moments_of_chance() -> None:
    store = Component("store", cpus=2, disks=2, disk_factor=6.0, spell_every_s=60.0, spell_s=15.0)
    config = PracticeConfig((store,), (Route("GET", "/", (Visit("store", 5, disk_ms=10),)),))
    run = held(config, 30, 600)
    busy = next(r for r in run.resources if r.key == "store.disk").utilisation
    slow = busy > 0.4
    assert slow.mean() == pytest.approx(0.25, abs=0.03)
    begun = np.flatnonzero(np.diff(slow.astype(int)) == 1)
    spells = [begun[(begun >= 60 * k) & (begun < 60 * (k + 1))] for k in range(10)]
    assert all(len(one) for one in spells)
    # Not like clockwork: they begin in all parts of their minute.
    assert np.std([one[0] % 60 for one in spells]) > 8
    quiet = held(PracticeConfig((replace(store, disk_factor=1.0),), config.routes), 30, 600)
    assert next(r for r in quiet.resources if r.key == "store.disk").utilisation.max() < 0.4


def test_a_cache_is_cold_again_as_each_spell_begins() -> None:
    spells = {"cold_factor": 4.0, "warms_over": 300.0, "spell_every_s": 100.0, "spell_s": 10.0}
    run = held(one_server_system(20, servers=2, **spells), 30, 400)
    cost = use_by_second(run, "shop.cpu") / np.maximum(run.succeeded, 1)
    assert np.median(cost) == pytest.approx(0.01, rel=0.15)
    # At the start, and once in each hundred seconds.
    dear = cost > 0.02
    for first in range(0, 400, 100):
        assert dear[first : first + 100].any()


def test_who_is_idle_keeps_a_place_and_does_no_work() -> None:
    config = PracticeConfig(
        (Component("store", cpus=4, pool=10),), (Route("GET", "/", (Visit("store", 5, idle_ms=500),)),)
    )
    run = held(config, 12, 200)
    # At most ten in half a second and a bit.
    assert rate(run) == pytest.approx(12 / 1.505, rel=0.05)
    assert use(run, "store.connections", 20, 200) == pytest.approx(rate(run) * 0.505 / 10, rel=0.03)
    assert use(run, "store.cpu", 20, 200) == pytest.approx(rate(run) * 0.005 / 4, rel=0.1)


def test_each_instance_of_its_own_servers_is_told_of() -> None:
    run = held(one_server_system(20, servers=2, instances=3, slow_factor=4.0), 30, 200)
    (cpu,) = (r for r in run.resources if r.key == "shop.cpu")
    assert list(cpu.instances) == ["shop-1", "shop-2", "shop-3"]
    means = [series[20:].mean() for series in cpu.instances.values()]
    assert means[2] == pytest.approx(4 * means[0], rel=0.1)
    assert np.mean(means) == pytest.approx(cpu.utilisation[20:].mean(), rel=0.01)


def test_a_leak_and_other_work_begin_when_they_are_told_to() -> None:
    config = one_server_system(20, servers=4, leak_kb=400, memory_mb=1000, troubled_from_s=60.0, restart_s=5.0)
    run = held(config, 50, 160)
    assert use(run, "shop.memory", 20, 60) == pytest.approx(0.3, abs=0.002)
    # 0.4 MB with each of some 49 visits a second: 700 MB are gone in 36 s, and again after a restart.
    memory = next(r for r in run.resources if r.key == "shop.memory").utilisation
    assert memory[80] == pytest.approx(0.3 + 0.0196 * 20, rel=0.08)
    assert memory[90:100].max() > 0.95
    assert set(run.error_kinds) == {"status 503"}
    refused = np.nonzero(run.errors.sum(axis=1))[0]
    assert 92 <= refused[0] <= 102
    jobs = held(one_server_system(20, servers=4, job_every_s=1, job_s=1, job_cpus=2, troubled_from_s=60.0), 20, 120)
    assert use(jobs, "shop.cpu", 70, 120) - use(jobs, "shop.cpu", 20, 60) == pytest.approx(0.5, abs=0.03)


def test_who_waits_too_long_goes_away_and_is_served_all_the_same() -> None:
    run = held(one_server_system(20, servers=1), 100, 90, limit_s=0.3)
    assert set(run.error_kinds) == {"time limit"}
    assert run.errors[30:].sum() > 0.9 * run.completed[30:].sum()
    assert next(r for r in run.resources if r.key == "shop.cpu").utilisation[30:].mean() > 0.99


def test_visits_fail_after_their_work_always_or_only_in_a_crowd() -> None:
    always = held(one_server_system(20, servers=2, fails=0.3), 20, 200)
    assert always.errors.sum() / always.completed.sum() == pytest.approx(0.3, abs=0.02)
    crowd = one_server_system(20, servers=2, fails=0.5, fails_over=12)
    assert held(crowd, 30, 100).errors.sum() == 0
    assert rate(held(crowd, 200, 100)) == pytest.approx(50, rel=0.05)
    assert set(held(crowd, 200, 50).error_kinds) == {"status 500"}


def test_what_is_not_metered_is_not_told() -> None:
    config = one_server_system(20, servers=4, pool=2, pool_metered=False)
    assert [r.key for r in held(config, 30, 30).resources] == ["shop.cpu", "shop.memory"]
    assert not held(one_server_system(20, metered=False), 30, 30).resources


def test_two_users_and_two_thousand_are_simulated_alike() -> None:
    for users in (2, 2_000):
        config = one_server_system(1000 * users / 150, servers=max(1, users // 20))
        exact = truth.compute(config, {ROUTE: 1.0}, 5.0).curve(users)
        assert rate(held(config, users, 400, 5.0), since=60) == pytest.approx(float(exact.throughput[-1]), rel=0.08)
