"""A generator as a process: orders in, seconds out, and what happens when one side dies."""

from __future__ import annotations

import io
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable

import pytest

from stonekettle.engine import process, wire
from stonekettle.engine.errors import GeneratorLost
from stonekettle.engine.leases import Lease
from stonekettle.engine.owner import Acknowledged, Event, Finished, GeneratorProcess, Lost, Ready, SecondDone
from stonekettle.engine.records import view
from stonekettle.plan.models import Plan
from tests.engine.conftest import KnownServer


class Ears:
    """Collects events and waits for one of a kind."""

    def __init__(self) -> None:
        self.events: list[Event] = []
        self._change = threading.Condition()

    def __call__(self, event: Event) -> None:
        with self._change:
            self.events.append(event)
            self._change.notify_all()

    def wait_for(self, kind: type[Event], limit_s: float = 15.0) -> Event:
        with self._change:
            assert self._change.wait_for(lambda: any(isinstance(e, kind) for e in self.events), limit_s)
        return next(e for e in self.events if isinstance(e, kind))


def begun(plan: Plan, ears: Ears, ahead_s: float = 0.0) -> GeneratorProcess:
    """A generator that has everything for itself and makes the load that is planned."""
    generator = GeneratorProcess(plan, ears)
    generator.lease(Lease.alone([group.name for group in plan.people], {}))
    for order in plan.planned.orders:
        generator.give(order)
    ears.wait_for(Ready)
    generator.begin(time.time() + ahead_s)
    return generator


def test_frames_survive_the_wire() -> None:
    stream = io.BytesIO()
    wire.write_frame(stream, "second", {"a": 1}, [b"xy", b"", b"zzz"])
    wire.write_frame(stream, "finished", {}, [])
    stream.seek(0)
    head, blobs = wire.read_frame(stream) or ({}, [])
    assert head["kind"] == "second"
    assert blobs == [b"xy", b"", b"zzz"]
    assert (wire.read_frame(stream) or ({}, []))[0]["kind"] == "finished"
    assert wire.read_frame(stream) is None


def test_a_frame_cut_off_is_the_end() -> None:
    stream = io.BytesIO()
    wire.write_frame(stream, "second", {"a": 1}, [b"xyz"])
    assert wire.read_frame(io.BytesIO(stream.getvalue()[:-1])) is None


FRAMES = """
from stonekettle.engine import wire
outlet = wire.outlet()
for number in range(400):
    wire.write_frame(outlet, "second", {"number": number, "text": "a" * 90_000}, [b"\\xc4" * 30_000])
"""


def test_frames_survive_a_host_that_freezes_their_writer() -> None:
    """A write that is cut short goes on where it was, though the interpreter was told not to buffer."""
    environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
    writer = subprocess.Popen([sys.executable, "-c", FRAMES], stdout=subprocess.PIPE, env=environment)
    assert writer.stdout is not None
    over = threading.Event()

    def freeze() -> None:
        while not over.wait(0.002):
            writer.send_signal(signal.SIGSTOP)
            time.sleep(0.002)
            writer.send_signal(signal.SIGCONT)

    freezer = threading.Thread(target=freeze)
    freezer.start()
    try:
        for number in range(400):
            if number % 40 == 0:
                time.sleep(0.02)  # the pipe is full meanwhile
            head, blobs = wire.read_frame(writer.stdout) or ({}, [])
            assert (head["number"], len(head["text"]), blobs) == (number, 90_000, [b"\xc4" * 30_000])
        assert wire.read_frame(writer.stdout) is None
    finally:
        over.set()
        freezer.join()
        writer.kill()
        writer.wait()
        writer.stdout.close()


def test_a_generator_that_cannot_be_heard_any_more_is_lost_and_ended(
    make_plan: Callable[..., Plan], known_server: KnownServer
) -> None:
    class Full(Ears):
        def __call__(self, event: Event) -> None:
            if isinstance(event, SecondDone):
                raise OSError(28, "No space left on device")
            super().__call__(event)

    ears = Full()
    generator = begun(make_plan(base=known_server.url, hold="60 s"), ears)
    lost = ears.wait_for(Lost)
    assert isinstance(lost, Lost)
    assert lost.reason == "what it told could not be taken in: No space left on device"
    assert not os.path.exists(f"/proc/{generator.pid}")
    generator.close()


def test_a_generator_runs_and_reports_every_second(make_plan: Callable[..., Plan], known_server: KnownServer) -> None:
    ears = Ears()
    plan = make_plan(base=known_server.url)
    generator = begun(plan, ears, 0.2)
    ears.wait_for(Finished)
    acknowledged = [e.number for e in ears.events if isinstance(e, Acknowledged)]
    assert acknowledged == [order.number for order in plan.planned.orders]
    generator.close()
    seconds = [e for e in ears.events if isinstance(e, SecondDone)]
    assert [s.rollup["second"] for s in seconds][:2] == [0, 1]
    assert sum(len(view(s.records)) for s in seconds) == known_server.seen["/"] > 20


def test_a_killed_generator_is_lost_and_what_it_sent_is_kept(
    make_plan: Callable[..., Plan], known_server: KnownServer
) -> None:
    ears = Ears()
    generator = begun(make_plan(base=known_server.url, hold="60 s"), ears)
    ears.wait_for(SecondDone)
    os.kill(generator.pid, signal.SIGKILL)
    lost = ears.wait_for(Lost)
    generator.close()
    assert isinstance(lost, Lost)
    assert "-9" in lost.reason
    assert any(isinstance(e, SecondDone) for e in ears.events)


def test_a_generator_whose_owner_goes_away_drains(make_plan: Callable[..., Plan], known_server: KnownServer) -> None:
    ears = Ears()
    generator = begun(make_plan(base=known_server.url, hold="60 s"), ears)
    ears.wait_for(SecondDone)
    generator.close(limit_s=10)
    assert isinstance(ears.events[-1], Finished)


def test_a_halt_cuts_off_what_users_are_in(make_plan: Callable[..., Plan], known_server: KnownServer) -> None:
    """Steps of half a minute are under way: nobody waits for them, and nothing is sent any more."""
    known_server.answers["/"] = ({"Content-Type": "text/plain"}, b"x" * 100)
    known_server.holds["/"] = 30.0
    ears = Ears()
    generator = begun(make_plan(base=known_server.url, hold="60 s"), ears)
    ears.wait_for(SecondDone)
    generator.halt()
    began = time.monotonic()
    ears.wait_for(Finished)
    assert time.monotonic() - began < 15
    sent = known_server.seen["/"]
    generator.close()
    assert known_server.seen["/"] == sent > 0


def test_more_users_than_open_files_is_told_before_the_run() -> None:
    with pytest.raises(GeneratorLost, match="open files"):
        process.raise_descriptor_limit(10_000_000)


def test_a_generator_whose_owner_falls_silent_lets_its_users_go(
    make_plan: Callable[..., Plan], known_server: KnownServer
) -> None:
    ears = Ears()
    generator = begun(make_plan(base=known_server.url, hold="60 s"), ears)
    ears.wait_for(SecondDone)
    generator.is_owned = lambda: False  # as when the owner hangs: the pipe stays open, and nobody speaks
    began = time.monotonic()
    ears.wait_for(Finished, 30)
    assert time.monotonic() - began > process.OWNER_SILENCE_S - 2
    asked = known_server.seen.total()
    time.sleep(0.3)
    assert known_server.seen.total() == asked
    generator.close()


def test_a_stall_of_the_generator_is_no_silence_of_its_owner(
    make_plan: Callable[..., Plan], known_server: KnownServer
) -> None:
    ears = Ears()
    generator = begun(make_plan(base=known_server.url, hold="16 s"), ears)
    ears.wait_for(SecondDone)
    os.kill(generator.pid, signal.SIGSTOP)
    time.sleep(process.OWNER_SILENCE_S + 2)
    os.kill(generator.pid, signal.SIGCONT)
    ears.wait_for(Finished, 30)
    generator.close()
    seconds = [e.rollup["second"] for e in ears.events if isinstance(e, SecondDone)]
    assert max(seconds) >= 14
