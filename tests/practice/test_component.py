"""Instances of the practice system: caches, histograms, leaks, restarts, a slow one."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from random import Random

import pytest

from stonekettle.practice import shapes
from stonekettle.practice.component import Draws, Failed, LiveComponent, Refused, Spread
from stonekettle.practice.config import CACHE_HIT_COST, Component, PracticeConfigError, Visit, from_document
from stonekettle.practice.truth import compute


class Clock:
    """A clock that is moved by hand."""

    now = 100.0

    def __call__(self) -> float:
        return self.now


def component(**fields: object) -> tuple[LiveComponent, Clock]:
    clock = Clock()
    return LiveComponent(Component("shop", **fields), clock, Random(1)), clock  # type: ignore[arg-type]


def visit(live: LiveComponent, cpu_s: float = 0.0, disk_s: float | None = None, queries: int = 0) -> float:
    """One whole visit; when it ends."""
    instance = live.enter()
    draws = Draws(lambda: cpu_s, None if disk_s is None else lambda: disk_s, None)
    end = asyncio.run(live.serve(instance, Visit("shop", 1.0, queries=queries), draws, live.clock(), "write"))
    live.leave(instance, 100)
    return end


def metrics(live: LiveComponent, instance: int = 0) -> dict[str, float]:
    found: dict[str, float] = {}
    for family in live.instances[instance].collect():
        for sample in family.samples:
            found[sample.name.removeprefix("quillport_") + sample.labels.get("le", "")] = sample.value
    return found


def test_hits_and_misses_keep_the_mean_time() -> None:
    live, clock = component(cache_hits=0.75)
    taken = [visit(live, 0.001) - clock.now for _ in range(20)]
    assert min(taken) == pytest.approx(0.001 * CACHE_HIT_COST, rel=0.01)
    told = metrics(live)
    assert told["cache_hits_total"] + told["cache_misses_total"] == 20
    miss = (1 - 0.75 * CACHE_HIT_COST) / 0.25
    assert 0.75 * CACHE_HIT_COST + 0.25 * miss == pytest.approx(1.0)


def test_addresses_answered_lately_are_cheap() -> None:
    live, clock = component(remembers=2)

    def took(address: str) -> float:
        began, instance = clock.now, live.enter()
        draws = Draws(lambda: 0.001, None, None)
        end = asyncio.run(live.serve(instance, Visit("shop", 1.0), draws, began, "read", address))
        live.leave(instance, 0)
        clock.now = end + 1
        return round((end - began) * 1000, 3)

    assert [took(a) for a in ("/a", "/a", "/b", "/c", "/a")] == [1.0, 0.2, 1.0, 1.0, 1.0]
    assert metrics(live)["cache_hits_total"] == 1


def test_disk_operations_are_told_as_distributions() -> None:
    live, _ = component(disks=1)
    for _ in range(5):
        visit(live, 0.0, disk_s=0.003)
    told = metrics(live)
    assert told["disk_latency_seconds_bucket+Inf"] == 5
    assert told["disk_latency_seconds_bucket0.002"] == 0
    assert told["disk_block_bytes_count"] == 5


def test_a_spread_counts_up_to_each_bound() -> None:
    spread = Spread((1.0, 2.0))
    for value in (0.5, 1.0, 1.5, 9.0):
        spread.add(value)
    assert spread.cumulative() == [("1.0", 2), ("2.0", 3), ("+Inf", 4)]
    assert spread.sum == 12.0


def test_queries_are_counted() -> None:
    live, _ = component(answers_queries=True)
    visit(live, queries=14)
    visit(live, queries=9)
    assert metrics(live)["queries_total"] == 23


def test_a_leak_fills_the_memory_crashes_and_starts_anew() -> None:
    live, clock = component(memory_mb=10, leak_kb=2_000, restart_s=3.0)
    started = metrics(live)["process_start_time_seconds"]
    while live.instances[0].is_up:
        visit(live, 0.001)
    with pytest.raises(Refused):
        live.enter()
    clock.now += 3.0
    told = metrics(live)
    assert told["process_start_time_seconds"] > started
    assert told["requests_total"] == 0
    assert told["cpu_seconds_total"] < 0.02
    visit(live)
    assert live.inside == 0


def test_one_instance_is_slow_and_the_others_are_not() -> None:
    live, clock = component(instances=3, slow_factor=4.0)
    taken = Counter(round((visit(live, 0.001) - clock.now) * 1000) for _ in range(3))
    assert taken == {1: 2, 4: 1}
    assert [round(metrics(live, i)["requests_total"]) for i in range(3)] == [1, 1, 1]


def test_troubles_begin_when_they_are_told_to() -> None:
    live, clock = component(instances=2, slow_factor=3.0, leak_kb=1_000, troubled_from_s=150.0, cpus=1, job_every_s=5.0)

    def both() -> list[int]:
        return sorted(round((visit(live, 0.001) - clock.now) * 1000) for _ in range(2))

    assert both() == [1, 1]
    assert metrics(live)["memory_used_bytes"] == pytest.approx(0.3 * 2048e6)
    clock.now = 152.0
    assert both() == [1, 3]
    assert metrics(live)["memory_used_bytes"] == pytest.approx(0.3 * 2048e6 + 1e6)


def test_disks_are_slow_and_caches_cold_in_spells() -> None:
    live, clock = component(
        disks=1, disk_factor=8.0, cold_factor=3.0, warms_over=2.0, spell_every_s=100.0, spell_s=20.0
    )

    def taken() -> float:
        return round((visit(live, 0.001, 0.001) - clock.now) * 1000, 1)

    def begins(number: int) -> float:
        return next(
            t / 10 for t in range(1000 * number, 1000 * (number + 1)) if shapes.spells(live.config, t / 10) > number
        )

    for number in range(3):
        clock.now = begins(number) + 0.1
        assert taken() == pytest.approx(3 + 8, abs=0.1)
        for _ in range(20):
            visit(live, 0.001)
        clock.now = begins(number) + 21.0
        assert taken() == pytest.approx(2.0, abs=0.1)


def test_an_unmetered_dependency_stands_behind_its_routes() -> None:
    config = from_document({"unmetered": {"name": "clearing", "ms": 50, "routes": ["POST /tickets"]}})
    assert not config.component("clearing").metered
    (route,) = [r for r in config.routes if r.name == "POST /tickets"]
    assert route.visits[-1] == Visit("clearing", 50)
    with pytest.raises(PracticeConfigError, match="'GET /nowhere' is not a route"):
        from_document({"unmetered": {"name": "x", "ms": 5, "routes": ["GET /nowhere"]}})
    with pytest.raises(PracticeConfigError, match=r"unmetered\.ms"):
        from_document({"unmetered": {"name": "x", "ms": "much", "routes": []}})


def test_the_truth_claims_nothing_about_a_slow_instance() -> None:
    config = from_document({"changes": {"planner": {"slow_factor": 3.0}}})
    with pytest.raises(PracticeConfigError, match="no closed form"):
        compute(config, {"GET /": 1.0}, 1.0)


def test_a_lock_lets_one_in_at_a_time_and_slows_down_with_those_who_wait() -> None:
    """Three visits of 10 ms under the lock: the first holds it when the others come, then one waits, then none."""
    live = LiveComponent(Component("shop", lock_ms=10.0, lock_growth=0.25), time.monotonic, Random(1))

    async def play() -> list[float]:
        draws = Draws(lambda: 0.0, None, lambda: 0.010)
        return list(
            await asyncio.gather(
                *(live.serve(live.enter(), Visit("shop", 1.0), draws, began, "read", "/") for _ in range(3))
            )
        )

    began = time.monotonic()
    ends = [end - began for end in asyncio.run(play())]
    assert ends == pytest.approx([0.010, 0.0225, 0.0325])


def test_a_cold_cache_warms_and_work_that_grows_grows() -> None:
    live, clock = component(cold_factor=3.0, warms_over=10)
    taken = []
    for _ in range(60):
        taken.append(visit(live, 0.001) - clock.now)
        clock.now += 1
    assert taken[0] == pytest.approx(0.003, rel=0.01)
    assert taken[-1] == pytest.approx(0.001, rel=0.02)
    live, clock = component(slows_per_minute=0.3)
    clock.now = 120.0
    assert visit(live, 0.001) - clock.now == pytest.approx(0.0016, rel=0.01)


def test_other_work_is_done_before_what_comes_later() -> None:
    live, clock = component(cpus=1, job_every_s=30.0, job_s=2.0)
    clock.now = 30.5
    assert visit(live, 0.001) == pytest.approx(32.001)


def test_a_visit_that_fails_has_done_its_work() -> None:
    live, clock = component(fails=1.0)
    with pytest.raises(Failed):
        visit(live, 0.010)
    cpu, _ = live.servers_of(live.instances[0])
    assert cpu.busy_seconds(clock.now + 1) == pytest.approx(0.010)


def test_a_pool_may_have_no_meter() -> None:
    live, _ = component(pool=3, pool_metered=False)
    visit(live, 0.001)
    assert not any(name.startswith("pool") for name in metrics(live))
