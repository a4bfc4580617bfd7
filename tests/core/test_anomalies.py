"""What is unusual in a run: steps that cost more than they did, and memory that fills."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core.anomalies import BLOCK_S, Anomalies, Block, block_of, mostly_of
from stonekettle.core.notices import Notice

LEVELS = (20.0, 40.0, 60.0, 80.0, 100.0, 120.0)


class System:
    """Two kinds of steps at a cpu of 8, 20 and 60 ms each, in blocks with chance in them."""

    def __init__(self, seed: int = 1, *, mix: float = 0.5) -> None:
        self.random = np.random.default_rng(seed)
        self.anomalies = Anomalies(2)
        self.at_s = 0
        self.mix = mix

    def go(
        self,
        rate: float,
        blocks: int,
        *,
        slow: float = 1.0,
        beside: float = 0.0,
        memory: float = 0.4,
        grows: float = 0.0,
    ) -> float:
        """Do so many steps a second; the memory in use in the end."""
        for _ in range(blocks):
            done = self.random.poisson([rate * self.mix * BLOCK_S, rate * (1 - self.mix) * BLOCK_S])
            work = sum(self.random.exponential(each, n).sum() for each, n in zip((0.02, 0.06), done, strict=True))
            memory += grows
            self.anomalies.hear(
                Block(
                    self.at_s,
                    done / BLOCK_S,
                    failed=0.0,
                    begun=done.sum() / BLOCK_S,
                    users=rate,
                    in_flight=rate / 20,
                    busy={"ledger.cpu": slow * work / BLOCK_S + beside},
                    servers={"ledger.cpu": 8.0},
                    memory={"ledger.memory": memory + 0.0005 * rate + self.random.normal(0, 0.0002)},
                )
            )
            self.at_s += BLOCK_S
        return memory

    @property
    def notices(self) -> list[Notice]:
        return self.anomalies.notices


def climbed(seed: int = 1, **more: float) -> System:
    system = System(seed, **more)
    for level in LEVELS:
        system.go(level, 9)
    return system


@pytest.mark.parametrize("seed", range(12))
def test_a_climb_of_a_healthy_system_is_nothing_unusual(seed: int) -> None:
    assert climbed(seed).notices == []


@pytest.mark.parametrize("seed", range(6))
def test_another_mix_of_steps_is_no_anomaly(seed: int) -> None:
    system = System(seed, mix=0.9)
    for level in LEVELS[:3]:
        system.go(level, 9)
    # Each step costs twice as much on the average from here on, and no kind of step more than before.
    system.mix = 0.1
    for level in LEVELS[2:]:
        system.go(level, 9)
    assert system.notices == []


@pytest.mark.parametrize("how", [{"slow": 1.6}, {"beside": 2.0}])
def test_work_that_no_step_explains_is_told_with_its_beginning(how: dict[str, float]) -> None:
    system = climbed()
    began = system.at_s
    system.go(80, 7, **how)
    (notice,) = system.notices
    assert (notice.kind, notice.subject, notice.until_s) == ("cost", "ledger.cpu", None)
    assert abs(notice.since_s - began) <= 2 * BLOCK_S
    assert 0.3 < notice.value < 1.1


def test_it_is_over_once_steps_cost_what_they_did_and_can_come_again() -> None:
    system = climbed()
    system.go(80, 12, slow=1.6)
    over = system.at_s
    system.go(80, 20)
    (notice,) = system.notices
    assert notice.until_s is not None
    assert abs(notice.until_s - over) <= 4 * BLOCK_S
    system.go(60, 8, slow=1.8)
    assert len(system.notices) == 2


def test_a_tenth_more_is_not_worth_a_look() -> None:
    system = climbed()
    system.go(80, 24, slow=1.08)
    assert system.notices == []


def test_steps_that_were_never_that_many_are_not_known_to_be_dear() -> None:
    system = System()
    system.go(5, 6)
    system.go(150, 3, slow=1.25)
    assert system.notices == []


def test_memory_that_grows_at_the_same_load_is_told_with_its_rate() -> None:
    system = climbed()
    began = system.at_s
    # A hundredth of all each block: full in five minutes.
    system.go(80, 8, grows=0.01)
    (notice,) = system.notices
    assert (notice.kind, notice.subject, notice.until_s) == ("memory", "ledger.memory", None)
    assert abs(notice.since_s - began) <= 2 * BLOCK_S
    assert notice.value == pytest.approx(0.01 / BLOCK_S, rel=0.1)
    assert notice.limit == pytest.approx(0.4 + 0.04 + 0.08, abs=0.01)


def test_memory_that_users_need_is_no_leak() -> None:
    system = climbed()
    for level in np.linspace(80, 120, 30):
        system.go(level, 1)
    assert system.notices == []


def test_memory_that_is_given_back_is_told_once_at_most() -> None:
    system = climbed()
    memory = 0.4
    for _ in range(5):
        memory = system.go(80, 10, memory=memory, grows=0.01) - 0.1
    found = [notice for notice in system.notices if notice.kind == "memory"]
    assert len(found) == 1
    assert found[0].until_s is not None


def test_growth_that_would_take_hours_is_none() -> None:
    system = climbed()
    system.go(80, 40, grows=0.0002)
    assert system.notices == []


def test_a_block_leaves_out_what_is_not_known() -> None:
    known, lost = np.full(BLOCK_S, 0.5), np.array([0.5, np.nan, np.nan, np.nan, 0.5])
    load = {name: np.ones(BLOCK_S) for name in ("failed", "begun", "users", "in_flight")}
    capacity = np.full(BLOCK_S, 4.0)
    block = block_of(
        10,
        np.ones((BLOCK_S, 2)),
        load,
        [
            ("a.cpu", "cpu", known, capacity),
            ("b.cpu", "cpu", lost, capacity),
            ("a.memory", "memory", known, capacity),
            ("a.connections", "pool", known, capacity),
        ],
    )
    assert (block.at_s, block.busy, block.servers, block.memory) == (
        10,
        {"a.cpu": 2.0},
        {"a.cpu": 4.0},
        {"a.memory": 0.5},
    )
    anomalies = Anomalies(2)
    anomalies.hear(block)
    assert anomalies.notices == []


def test_an_instance_is_named_where_most_of_it_is_its_own() -> None:
    before = {"a": 0.4, "b": 0.4, "c": 0.4}
    assert mostly_of(before, {"a": 0.4, "b": 0.7, "c": 0.4}, 0.25) == "b"
    assert mostly_of(before, {"a": 0.5, "b": 0.5, "c": 0.5}, 0.25) == ""
    # Twice the load, which explains twice the work: what is more than that is of one.
    assert mostly_of(before, {"a": 0.8, "b": 0.8, "c": 1.0}, 0.2 / 2.4) == "c"
    assert mostly_of({"a": 0.4}, {"a": 0.8}, 1.0) == ""
    assert mostly_of(before, {"d": 0.8, "e": 0.2}, 1.0) == ""
    assert mostly_of({}, {}, 1.0) == ""
