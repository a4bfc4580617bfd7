"""A conductor's line to the database: alive whatever the conductor does, and just to everybody else."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.db import OperationalError, connection
from django.utils import timezone

from stonekettle.meters.samples import Catalogue, Source
from stonekettle.server.runs import conducting, keeping, rules
from stonekettle.server.runs.conducting import DatabaseFleet, DatabaseJournal, Line
from stonekettle.server.runs.models import Generator, MeterSeries, Run

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


def test_signs_of_life_orders_and_samples_pass_while_the_conductor_is_busy(line: Line, run: Run) -> None:
    busy = Source("ledger", "a:1", "busy", (), "gauge")
    DatabaseJournal(line).samples(Catalogue().batch(3, [(busy, 3.0, 0.5)]))
    rules.request_stop(run, "anna")
    # Nothing but sleeping here, as in a trial that takes long.
    until(lambda: MeterSeries.objects.filter(run=run).exists())
    first = Run.objects.get(pk=run.pk).conductor_seen_at
    until(lambda: Run.objects.get(pk=run.pk).conductor_seen_at != first)
    assert DatabaseJournal(line).stop_wanted() == "anna"


def test_a_generator_is_silent_only_where_the_database_was_steady_as_long(
    line: Line, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    fleet = DatabaseFleet(line)
    until(lambda: fleet.status().ready)
    Generator.objects.filter(run=run).update(seen_at=timezone.now() - timedelta(minutes=1))
    until(lambda: line.generators[0].seen_at < timezone.now() - timedelta(seconds=30))
    assert fleet.status().lost is None, "a moment of reading proves nothing"
    monkeypatch.setattr(conducting, "GENERATOR_SILENCE_S", 0.3)
    until(lambda: line.steady_for_s > 0.4)
    assert fleet.status().lost == "local-1 fell silent"


def test_what_cannot_be_saved_waits_and_too_long_an_outage_is_told(
    line: Line, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(keeping, "OUTAGE_LIMIT_S", 0.5)
    stored: list[int] = []

    def full(run_id: int, batches: list[Any]) -> None:
        stored.append(len(batches))
        raise OperationalError("could not extend file: No space left on device")

    monkeypatch.setattr(conducting.data, "store", full)
    line.keep(Catalogue().batch(0, [(Source("a", "b", "c", (), "gauge"), 0.0, 1.0)]))
    until(lambda: len(stored) > 2)
    assert set(stored) == {1}
    assert line.steady_for_s == 0
    until(lambda: line._fault is not None)
    with pytest.raises(keeping.DatabaseAway, match="for over"):
        DatabaseJournal(line).stop_wanted()


@pytest.mark.django_db
def test_stopping_everything_stops_runs_and_says_so(planner: User, run: Run) -> None:
    from django.core.management import call_command

    assert connection.vendor == "postgresql"
    call_command("stop_runs", "--within", "0")
    assert Run.objects.get(pk=run.pk).stop_requested_by == "./kettle stop"
