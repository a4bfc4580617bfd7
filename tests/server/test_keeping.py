"""Patience with a database that is away."""

from __future__ import annotations

import time

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
    before = watch.readable_since
    flaky = Flaky(2)
    assert watch.read(flaky, "old") == "old"
    assert watch.read(flaky, "old") == "old"
    time.sleep(0.01)
    assert watch.read(flaky, "old") == "answer"
    assert watch.readable_since > before


def test_a_long_outage_is_an_error(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(keeping, "OUTAGE_LIMIT_S", 0.02)
    watch = keeping.Watch(0.0)
    watch.read(Flaky(1), None)
    time.sleep(0.05)
    with pytest.raises(keeping.DatabaseAway):
        watch.read(Flaky(1), None)
