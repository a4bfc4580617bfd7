"""The owner of a generator: orders get through whatever happens to what it has to save."""

from __future__ import annotations

import time
from collections.abc import Callable

import pytest
from django.db import OperationalError

from stonekettle.core.orders import Order
from stonekettle.engine import orderbook
from stonekettle.engine.leases import Lease
from stonekettle.engine.owner import Acknowledged, Finished, Ready, SecondDone
from stonekettle.server.access import halting
from stonekettle.server.runs import generating
from stonekettle.server.runs.generating import Courier
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run, RunOrder
from stonekettle.server.runs.spool import Spool
from tests.server.acting import TESTS


class FakeProcess:
    """Stands for a generator: notes what it is told."""

    pid = 4711

    def __init__(self, *_: object, **__: object) -> None:
        self.told: list[str] = []

    def begin(self, at: float) -> None:
        self.told.append("begin")

    def give(self, order: Order) -> None:
        self.told.append(f"order {order.number}")

    def lease(self, lease: Lease) -> None:
        self.told.append(f"lease {lease.epoch}")

    def let_go(self) -> None:
        self.told.append("let go")

    def halt(self) -> None:
        self.told.append("halt")

    def kill(self) -> None:
        self.told.append("kill")


@pytest.fixture
def courier(make_run: Callable[..., Run], monkeypatch: pytest.MonkeyPatch) -> Courier:
    monkeypatch.setattr(generating, "GeneratorProcess", FakeProcess)
    run = make_run(0, state="running", begun_at=1.0)
    Generator.objects.filter(run=run).update(lease=Lease.alone(["everyone"], {}).as_dict() | {"epoch": 1})
    for order in run.plan.planned.orders[:2]:
        RunOrder.objects.create(run=run, number=order.number, order=orderbook.to_plain(order), who="the plan")
    return Courier(Generator.objects.get(run=run))


def second(number: int) -> SecondDone:
    return SecondDone({"second": number, "told": {}}, {}, b"")


def test_orders_are_heard_though_nothing_can_be_saved(courier: Courier, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object, **__: object) -> None:
        raise OperationalError("could not extend file: No space left on device")

    Run.objects.filter(pk=courier.generator.run_id).update(state="analysing")
    monkeypatch.setattr(GeneratorSecond.objects, "bulk_create", full)
    courier._take(second(0))
    with pytest.raises(OperationalError):
        courier.look()
    told = courier._process.told  # type: ignore[attr-defined]
    assert told == ["lease 1", "order 1", "order 2", "begin", "let go"]
    assert len(courier._spool) == 1


def test_seconds_are_saved_once_and_everything_is_told_once(courier: Courier) -> None:
    courier._take(second(3))
    courier._take(Acknowledged(2))
    for _ in range(3):
        courier.look()
    assert courier._process.told == ["lease 1", "order 1", "order 2", "begin"]  # type: ignore[attr-defined]
    assert GeneratorSecond.objects.get(generator=courier.generator).second == 3
    generator = Generator.objects.get(pk=courier.generator.pk)
    assert (generator.process_id, generator.acknowledged) == (4711, 2)
    assert not courier.saved_late


def test_one_that_was_given_up_lets_its_users_go_and_still_saves_what_it_has(courier: Courier) -> None:
    rows = Generator.objects.filter(pk=courier.generator.pk)
    rows.update(state=Generator.State.LOST, reason="no sign of life")
    Run.objects.filter(pk=courier.generator.run_id).update(state="finished")
    courier._take(Ready())
    courier._take(second(5))
    courier.look()
    assert courier._process.told[-1] == "let go"  # type: ignore[attr-defined]
    assert GeneratorSecond.objects.filter(generator=courier.generator, second=5).exists()
    assert courier.saved_late
    courier._end(Finished())
    assert rows.get().state == Generator.State.LOST


def test_it_owns_the_load_only_while_its_own_loop_turns_and_its_spool_takes_what_comes(courier: Courier) -> None:
    assert courier._is_owned()
    courier._turned_at -= generating.OWN_STALL_S + 1
    assert not courier._is_owned()
    courier._turned_at += generating.OWN_STALL_S + 1
    courier._spool = Spool(memory_bytes=0, file_bytes=2_020)
    for number in range(3):
        courier._take(second(number))
    assert not courier._is_owned()
    assert "wait to be saved" in str(courier._fault)
    courier._spool.close()


def test_a_generator_that_stands_still_is_given_up_while_its_owner_runs(courier: Courier) -> None:
    rows = Generator.objects.filter(pk=courier.generator.pk)
    courier._take(Ready())
    courier.look()
    courier._turned_at -= 60.0  # a stall of the owner itself counts for little
    courier._turn()
    courier.look()
    assert rows.get().state == Generator.State.READY
    for _ in range(45):
        courier._turned_at -= generating.TURN_S
        courier._turn()
    courier.look()
    assert (rows.get().state, rows.get().reason) == (Generator.State.LOST, "it stood still for 4 s")
    courier.look()
    assert courier._process.told[-1] == "let go"  # type: ignore[attr-defined]


def test_a_generator_that_has_ended_is_not_said_to_stand_still(courier: Courier) -> None:
    courier._take(Ready())
    courier.look()
    courier._take(Finished())
    for _ in range(60):
        courier._turned_at -= generating.TURN_S
        courier._turn()
    courier.look()
    assert Generator.objects.get(pk=courier.generator.pk).state == Generator.State.READY


def test_a_spool_keeps_its_order_through_memory_and_file() -> None:
    spool = Spool(memory_bytes=5_000)
    for number in range(10):
        spool.put({"second": number}, [bytes([number]) * 100, b""])
    assert len(spool) == 10
    found = []
    while waiting := spool.oldest(3):
        found += [(head["second"], blobs[0][:1]) for head, blobs in waiting]
        spool.drop(len(waiting))
        if len(found) == 6:
            spool.put({"second": 10}, [b"\n", b""])
    assert found == [(number, bytes([number])) for number in range(11)]
    assert len(spool) == 0
    spool.close()


def test_a_halt_ends_the_load_once_and_a_generator_that_does_not_hear_it_is_killed(
    courier: Courier, monkeypatch: pytest.MonkeyPatch
) -> None:
    courier.look()
    halting.halt(TESTS, "smoke in the hall")
    for _ in range(3):
        courier.look()
    courier._turn()
    told = courier._process.told  # type: ignore[attr-defined]
    assert told[-1] == "halt"
    assert told.count("halt") == 1
    later = time.monotonic() + generating.HALT_LIMIT_S + 0.1
    monkeypatch.setattr(time, "monotonic", lambda: later)
    courier._turn()
    assert told[-1] == "kill"
    courier._take(Finished())
    courier._turn()
    assert told.count("kill") == 1
