"""What is known of a run under way, level by level."""

from __future__ import annotations

import time
from collections.abc import Callable

import pytest
from django.test import Client

from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Order
from stonekettle.engine import orderbook
from stonekettle.report.notes.note import Note
from stonekettle.server.runs import living
from stonekettle.server.runs.models import Run, RunOrder

pytestmark = pytest.mark.django_db


def ordered(run: Run, *levels: tuple[float, float]) -> None:
    for number, (at, users) in enumerate(levels, start=run.orders.count() + 1):
        order = Order(number, at, {"everyone": Target.steady(users)}, last=users == 0)
        RunOrder.objects.create(run=run, number=number, order=orderbook.to_plain(order), who="the plan")


def told(client: Client, run: Run) -> dict[str, object]:
    living.Watching(run.pk).look()
    found: dict[str, object] = client.get(f"/api/runs/{run.pk}").json()
    return found


def test_a_level_is_told_of_once_it_is_over_and_its_last_seconds_are_in(
    client: Client, make_run: Callable[..., Run]
) -> None:
    run = make_run(42, state="running", begun_at=time.time() - 42)
    ordered(run, (0, 30))
    assert told(client, run)["living"] is None
    ordered(run, (40, 60))
    assert told(client, run)["living"] is None, "the last seconds of a level come late"


def test_what_a_further_level_has_not_changed_is_settled(
    client: Client, make_run: Callable[..., Run], monkeypatch: pytest.MonkeyPatch
) -> None:
    grades = iter(["holds", "strained"])
    said = {"text": "", "details": ()}

    def notes(*_: object) -> tuple[Note, ...]:
        return (
            Note(kind="room", grade="holds", title="Nothing is full yet", **said),
            Note(kind="holds", grade=next(grades), title="Every objective holds", **said),
        )

    monkeypatch.setattr("stonekettle.report.living.notes", notes)
    run = make_run(90, state="running", begun_at=time.time() - 90)
    ordered(run, (0, 30), (40, 60))
    first = told(client, run)["living"]
    assert isinstance(first, dict)
    assert (first["levels"], first["at_s"]) == (1, 40)
    assert len(first["notes"]) == 2
    assert not any(note["settled"] for note in first["notes"])
    story = client.get(f"/api/runs/{run.pk}/plate").json()["story"]
    assert told(client, run)["living"] == first, "nothing is found anew while no level is over"
    ordered(run, (80, 90))
    second = told(client, run)["living"]
    assert isinstance(second, dict)
    assert second["at_s"] == 80
    assert {note["kind"]: note["settled"] for note in second["notes"]} == {"room": True, "holds": False}
    assert client.get(f"/api/runs/{run.pk}/plate").json()["story"] > story


def test_before_load_there_is_nothing_to_look_at(make_run: Callable[..., Run]) -> None:
    run = make_run(0)
    living.Watching(run.pk).look()
    run.refresh_from_db()
    assert run.living is None
