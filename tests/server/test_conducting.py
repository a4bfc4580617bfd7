"""A conductor's line to the database: alive whatever the conductor does, and just to everybody else."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from datetime import timedelta
from types import SimpleNamespace
from typing import Any, cast

import pytest
from django.contrib.auth.models import User
from django.db import OperationalError, connection
from django.utils import timezone

from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Order
from stonekettle.engine import orderbook, searching, signals
from stonekettle.engine.errors import EngineError, Halted
from stonekettle.engine.leases import Lease
from stonekettle.engine.signals import Heard, Verb, Wish
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.server.access import halting
from stonekettle.server.access.roles import Actor
from stonekettle.server.runs import conducting, keeping, rules
from stonekettle.server.runs.conducting import DatabaseControl, Line, Looking
from stonekettle.server.runs.models import Generator, MeterSeries, Run, RunNote, RunOrder

MakeRun = Callable[..., Run]


@pytest.fixture
def run(make_run: MakeRun) -> Run:
    run = make_run(0, state="running", begun_at=1.0)
    Generator.objects.filter(run=run).update(state="ready")
    return run


def until(condition: Callable[[], Any], limit_s: float = 10.0) -> None:
    give_up = time.monotonic() + limit_s
    while not condition():
        assert time.monotonic() < give_up
        time.sleep(0.02)


@pytest.fixture
def line(transactional_db: None, run: Run, monkeypatch: pytest.MonkeyPatch) -> Iterator[Line]:
    """Looks every few hundredths of a second."""
    monkeypatch.setattr(conducting, "LOOK_S", 0.03)
    with Line(run.pk) as made:
        yield made
    until(lambda: not made._thread.is_alive())


def test_signs_of_life_wishes_and_samples_pass_while_the_conductor_is_busy(line: Line, run: Run) -> None:
    busy = Source("ledger", "a:1", "busy", (), "gauge")
    DatabaseControl(line).samples(Catalogue().batch(3, [(busy, 3.0, 0.5)]))
    rules.request_stop(Actor.itself("anna"), run)
    # Nothing but sleeping here, as in a trial that takes long.
    until(lambda: MeterSeries.objects.filter(run=run).exists())
    first = Run.objects.get(pk=run.pk).conductor_seen_at
    until(lambda: Run.objects.get(pk=run.pk).conductor_seen_at != first)
    heard: list[Heard] = []
    until(lambda: heard.extend(line.heard()) or any(isinstance(item, Wish) for item in heard))
    (wish,) = [item for item in heard if isinstance(item, Wish)]
    assert (wish.verb, wish.who) == (Verb.STOP, "anna")
    assert signals.Ready("local-1", "local") in heard


def test_a_generator_is_silent_only_where_the_database_was_steady_as_long(
    line: Line, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    heard: list[Heard] = []
    until(lambda: heard.extend(line.heard()) or signals.Ready("local-1", "local") in heard)
    Generator.objects.filter(run=run).update(seen_at=timezone.now() - timedelta(minutes=1))
    time.sleep(0.3)
    heard += line.heard()
    assert not [item for item in heard if isinstance(item, signals.Lost)], "a moment of reading proves nothing"
    monkeypatch.setattr(conducting, "GENERATOR_SILENCE_S", 0.3)
    until(lambda: heard.extend(line.heard()) or any(isinstance(item, signals.Lost) for item in heard))
    lost = [item for item in heard if isinstance(item, signals.Lost)]
    assert lost == [signals.Lost("local-1", "no sign of life for 0 s")]
    assert Generator.objects.get(run=run).state == Generator.State.LOST


def test_a_generator_that_cannot_write_but_speaks_is_not_silent(
    line: Line, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    heard: list[Heard] = []
    until(lambda: heard.extend(line.heard()) or signals.Ready("local-1", "local") in heard)
    generator = Generator.objects.get(run=run)
    monkeypatch.setattr(conducting, "GENERATOR_SILENCE_S", 0.5)
    Generator.objects.filter(run=run).update(seen_at=timezone.now() - timedelta(minutes=1))
    speaks = time.monotonic() + 2.0
    while time.monotonic() < speaks:
        keeping.sign_in_memory(generator.pk)
        time.sleep(0.05)
        heard += line.heard()
    assert line.steady_for_s > 0.5
    assert not [item for item in heard if isinstance(item, signals.Lost)]
    until(lambda: heard.extend(line.heard()) or any(isinstance(item, signals.Lost) for item in heard))
    with connection.cursor() as cursor:
        cursor.execute("RESET application_name")


def test_orders_leases_and_notes_are_kept_and_asking_for_one_more_makes_one_task(line: Line, run: Run) -> None:
    control = DatabaseControl(line)
    plan = run.plan
    for order in plan.planned.orders[:2]:
        control.do(signals.Give(order, "anna", "to see"))
    lease = Lease.alone([group.name for group in plan.people], {})
    control.do(signals.Lend("local-1", lease))
    control.do(signals.Note(2.0, "anna", "Raised to 40."))
    control._generators = 1
    control.do(signals.Replace("local"))
    line.flush()
    assert run.ordered.orders == plan.planned.orders[:2]
    assert set(RunOrder.objects.filter(run=run).values_list("who", "why")) == {("anna", "to see")}
    assert Lease.of(Generator.objects.get(run=run, name="local-1").lease) == lease
    assert RunNote.objects.get(run=run).text == "Raised to 40."
    assert Generator.objects.get(run=run, name="local-2").slot == 1


def test_a_fault_in_writing_ends_the_run_with_its_number(line: Line) -> None:
    def broken() -> None:
        raise ValueError("of our own making")

    line.write(broken)
    until(lambda: line._fault is not None)
    with pytest.raises(EngineError, match="has it as problem"):
        line.heard()


def test_what_cannot_be_saved_waits_and_too_long_an_outage_is_told(
    line: Line, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(keeping, "OUTAGE_LIMIT_S", 0.5)
    tried: list[int] = []

    def full() -> None:
        tried.append(1)
        raise OperationalError("could not extend file: No space left on device")

    line.write(full)
    until(lambda: len(tried) > 2)
    assert line.steady_for_s == 0
    until(lambda: line._fault is not None)
    with pytest.raises(keeping.DatabaseAway, match="for over"):
        line.heard()


@pytest.mark.django_db
def test_stopping_everything_stops_runs_and_says_so(planner: User, run: Run) -> None:
    from django.core.management import call_command

    assert connection.vendor == "postgresql"
    call_command("stop_runs", "--within", "0")
    assert Run.objects.get(pk=run.pk).stop_requested_by == "./kettle stop"


def test_a_halt_reaches_the_conductor_as_a_wish_to_stop(line: Line, run: Run) -> None:
    halting.halt(Actor.itself("anna"), "smoke in the hall")
    heard: list[Heard] = []
    until(lambda: heard.extend(line.heard()) or any(isinstance(item, Wish) for item in heard))
    (wish,) = [item for item in heard if isinstance(item, Wish)]
    assert (wish.verb, wish.who, wish.why) == (Verb.STOP, "the halt of anna", "smoke in the hall")
    with pytest.raises(Halted, match=r"All load was halted by anna: smoke in the hall\."):
        DatabaseControl(line).check_halt()


def test_what_was_measured_is_told_where_a_level_has_lasted(
    transactional_db: None, make_run: MakeRun, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A search hears everything measured so far, meters too; nothing while its level has only begun."""
    run = make_run(12, state="running", begun_at=1.0)
    monkeypatch.setattr(searching, "LOOK_S", 0.03)
    told: list[Heard] = []
    listener = cast(Line, SimpleNamespace(tell=told.append))
    late = orderbook.to_plain(Order(1, 8.0, {"everyone": Target.steady(30)}))
    RunOrder.objects.create(run=run, number=1, order=late, who="the search", why="")
    with Looking(run.pk, listener):
        time.sleep(0.3)
        assert told == []
        early = orderbook.to_plain(Order(1, 1.0, {"everyone": Target.steady(30)}))
        RunOrder.objects.filter(run=run).update(order=early)
        until(lambda: told)
    (first, *_) = told
    assert isinstance(first, signals.Measured)
    assert first.run.seconds == 12
    assert first.run.completed.sum() == 60
    assert "ledger.cpu" in {resource.key for resource in first.run.resources}
