"""Patience with a database that is away."""

from __future__ import annotations

import time

import psycopg
import pytest
from django.db import OperationalError

from stonekettle.server.runs import keeping

pytestmark = pytest.mark.django_db(transaction=True)


class Flaky:
    """Fails ``times`` times, then answers."""

    def __init__(self, times: int) -> None:
        self.left = times

    def __call__(self) -> str:
        if self.left:
            self.left -= 1
            raise OperationalError("the server closed the connection")
        return "answer"


def test_an_action_is_repeated_until_the_database_is_back(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(keeping, "RETRY_S", 0.01)
    assert keeping.patiently(Flaky(3)) == "answer"


def test_patience_ends(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(keeping, "RETRY_S", 0.01)
    with pytest.raises(keeping.DatabaseAway, match="was away"):
        keeping.patiently(Flaky(10_000), limit_s=0.05)


def test_the_last_answer_stands_during_an_outage() -> None:
    watch = keeping.Watch(0.0)
    time.sleep(0.5)
    flaky = Flaky(2)
    assert watch.read(flaky, "old") == "old"
    assert watch.read(flaky, "old") == "old"
    time.sleep(0.01)
    assert watch.read(flaky, "old") == "answer"
    assert 0 <= watch.steady_for_s < 0.5


def test_nothing_is_steady_during_an_outage_a_slow_look_or_while_nothing_can_be_written(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(keeping, "SLOW_S", 0.05)
    watch = keeping.Watch(0.0)
    time.sleep(0.1)
    assert watch.steady_for_s >= 0.1
    watch.read(Flaky(1), None)
    assert watch.steady_for_s == 0
    watch.read(Flaky(0), None)
    time.sleep(0.1)
    assert watch.steady_for_s >= 0.1
    seen: list[float] = []

    def slow() -> None:
        time.sleep(0.1)
        seen.append(watch.steady_for_s)

    watch.read(slow, None)
    assert seen == [0]
    assert watch.steady_for_s < 0.05
    # A process that was itself held up has not looked meanwhile.
    watch.read(Flaky(0), None)
    time.sleep(0.2)
    watch.read(Flaky(0), None)
    assert watch.steady_for_s < 0.1


def test_a_long_outage_is_an_error(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(keeping, "OUTAGE_LIMIT_S", 0.02)
    watch = keeping.Watch(0.0)
    watch.read(Flaky(1), None)
    time.sleep(0.05)
    with pytest.raises(keeping.DatabaseAway):
        watch.read(Flaky(1), None)


def test_a_full_disk_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(keeping, "RETRY_S", 0.01)

    def full() -> None:
        raise OperationalError("could not extend file") from psycopg.errors.DiskFull("could not extend file")

    with pytest.raises(keeping.DatabaseAway, match="The disk of the database was full for over 0 s"):
        keeping.patiently(full, limit_s=0.05)


def test_a_full_disk_is_named_though_the_last_word_was_another() -> None:
    answers = [OperationalError("could not write: No space left on device"), OperationalError("connection refused")]
    watch = keeping.Watch(0.0)

    def fails() -> None:
        raise answers.pop(0) if len(answers) > 1 else answers[0]

    watch.read(fails, None)
    watch._away_since = time.monotonic() - keeping.OUTAGE_LIMIT_S - 1
    with pytest.raises(keeping.DatabaseAway, match="disk of the database was full"):
        watch.read(fails, None)
