"""How blind was the loop? In virtual time, then against a server that says when it answered."""

from __future__ import annotations

import time
from types import SimpleNamespace

import numpy as np
import pytest

from stonekettle.engine import looking
from stonekettle.engine.generator import LoadLoop
from stonekettle.engine.looking import STALL_S, WAKING_S, Looking
from tests.engine.conftest import KnownServer, Played


class Clock:
    """Time that passes only when told, and a driver whose sleep takes as long as it is told."""

    def __init__(self) -> None:
        self.now, self.queued_ns = 100.0, 0
        self.sleeps: list[float] = []

    def perf_counter(self) -> float:
        return self.now

    def pump(self) -> None:
        self.now += 0.000_2

    def wait(self, seconds: float) -> None:
        self.now += self.sleeps.pop(0) if self.sleeps else seconds


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> Clock:
    clock = Clock()
    monkeypatch.setattr(looking, "time", SimpleNamespace(perf_counter=clock.perf_counter))
    monkeypatch.setattr(looking, "run_queue_delay_ns", lambda: clock.queued_ns)
    return clock


@pytest.fixture
def loop(clock: Clock) -> Looking:
    loop = Looking(clock)  # type: ignore[arg-type]
    loop.begin(clock.now)
    loop.look()
    return loop


def test_what_came_while_the_loop_worked_may_be_as_old_as_the_last_look(loop: Looking, clock: Clock) -> None:
    clock.now += 0.050
    loop.look()
    assert loop.blind_s == pytest.approx(0.0504)


def test_while_the_loop_sleeps_the_kernel_looks(loop: Looking, clock: Clock) -> None:
    clock.sleeps = [0.005]
    loop.wait(0.010)
    assert loop.blind_s == pytest.approx(WAKING_S + 0.000_2)


def test_a_wait_that_found_its_sockets_ready_did_not_sleep(loop: Looking, clock: Clock) -> None:
    clock.now += 0.003
    clock.sleeps = [0.000_01]
    loop.wait(0.010)
    assert loop.blind_s == pytest.approx(0.003_41)


def test_time_in_the_run_queue_is_blind_time(loop: Looking, clock: Clock) -> None:
    clock.sleeps = [0.009]
    before = clock.wait

    def wait(seconds: float) -> None:
        before(seconds)
        clock.queued_ns += 4_000_000

    clock.wait = wait  # type: ignore[method-assign]
    loop.wait(0.010)
    assert loop.blind_s == pytest.approx(0.004 + WAKING_S + 0.000_2)


def test_a_timer_that_rang_late_makes_the_next_waits_doubtful(loop: Looking, clock: Clock) -> None:
    clock.sleeps = [0.018, 0.005]
    loop.wait(0.010)
    assert loop.blind_s == pytest.approx(0.008 + WAKING_S + 0.000_2)
    loop.wait(0.010)
    assert 0.005 < loop.blind_s <= 0.008 + WAKING_S + 0.001
    for _ in range(1_000):
        loop.wait(0.010)
    assert loop.blind_s == pytest.approx(WAKING_S + 0.000_2, abs=1e-5)


def test_a_missed_beat_is_a_stall_from_the_last_one_on(loop: Looking, clock: Clock) -> None:
    loop.alive()
    clock.now += STALL_S / 2
    loop.alive()
    begun = clock.now
    clock.now += 0.300
    loop.alive()
    assert loop.take_stalls() == [(pytest.approx(begun), pytest.approx(begun + 0.3))]
    assert loop.take_stalls() == []


@pytest.mark.usefixtures("each_driver")
def test_brackets_hold_the_truth_even_beside_a_stall(known_server: KnownServer) -> None:
    calls = iter(range(10_000))

    def stall(loop: LoadLoop, elapsed: float) -> None:
        if next(calls) in (40, 80):
            time.sleep(0.25)

    played = Played(known_server.url, "/slow", users=20, seconds=2.5, think="20 ms", hear=stall)
    records = played.records
    noticed = played.start + (records["start_us"] + records["total_us"] + records["hidden_gap_us"]) / 1e6
    earliest = np.sort(noticed - (records["hidden_gap_us"] + records["blind_us"]) / 1e6)
    sent = np.sort([after for _, after in known_server.sent["/slow"]])
    assert len(sent) == len(records)
    assert records["blind_us"].max() > 100_000
    # In order of time: no answer was noticed before it was sent, and none could have been sooner than its bracket.
    assert np.all(np.sort(noticed) >= np.sort([before for before, _ in known_server.sent["/slow"]]))
    assert np.mean(earliest <= sent + 0.002) > 0.95
