"""Markers: what happened in a run, told by people and by programs."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from django.test import Client

from stonekettle.server.runs.models import Run, RunMarker
from stonekettle.server.systems import rules as systems
from tests.server.acting import TESTS

pytestmark = pytest.mark.django_db
JSON: Any = {"content_type": "application/json"}


@pytest.fixture
def live(make_run: Callable[..., Run]) -> Run:
    return make_run(10, state="running", begun_at=time.time() - 10)


@pytest.fixture
def over(make_run: Callable[..., Run]) -> Run:
    ended = datetime.now(UTC) - timedelta(hours=1)
    run = make_run(10, state="finished", begun_at=ended.timestamp() - 60, result={})
    Run.objects.filter(pk=run.pk).update(ended_at=ended)
    return run


def test_a_marker_is_put_now_changed_and_taken_away(client: Client, live: Run) -> None:
    address = f"/api/runs/{live.pk}/markers"
    put = client.post(address, {"text": " cache\nwarmed "}, **JSON)
    assert put.status_code == 201
    marker = put.json()
    assert (marker["text"], marker["who"]) == ("cache warmed", "planner")
    assert marker["at_s"] == pytest.approx(10, abs=3)
    before = client.get(f"/api/runs/{live.pk}/plate").json()["story"]
    changed = client.put(f"{address}/{marker['id']}", {"text": "cache emptied", "at_s": 4}, **JSON)
    assert (changed.json()["text"], changed.json()["at_s"]) == ("cache emptied", 4)
    assert client.get(f"/api/runs/{live.pk}").json()["markers"] == [changed.json()]
    assert client.get(f"/api/runs/{live.pk}/plate").json()["story"] > before, "whoever else looks hears of it"
    assert client.delete(f"{address}/{marker['id']}").status_code == 204
    assert not RunMarker.objects.exists()
    did = [deed["did"] for deed in client.get(f"/api/deeds?kind=run&object_id={live.pk}").json()["deeds"]]
    assert did == ["took away a marker", "changed a marker", "marked"]


def test_a_run_that_is_over_is_marked_at_a_moment_of_it(client: Client, over: Run) -> None:
    address = f"/api/runs/{over.pk}/markers"
    assert client.post(address, {"text": "the backup ran", "at_s": 30}, **JSON).status_code == 201
    told = client.get(f"/api/runs/{over.pk}/result.json").json()["markers"]
    assert [(one["at_s"], one["text"]) for one in told] == [(30, "the backup ran")]


@pytest.mark.parametrize(
    ("body", "status", "part"),
    [
        ({"text": "now"}, 409, "is over. Say at which second"),
        ({"text": "late", "at_s": 90}, 409, "lasted from 0 to 60 s, and 90 s is not in it"),
        ({"text": " \n", "at_s": 3}, 409, "needs some words"),
        ({"text": "x" * 301, "at_s": 3}, 422, "300"),
        ({"text": "before", "at_s": -1}, 422, "at_s"),
    ],
)
def test_what_is_no_marker_is_refused(client: Client, over: Run, body: dict[str, Any], status: int, part: str) -> None:
    answer = client.post(f"/api/runs/{over.pk}/markers", body, **JSON)
    assert answer.status_code == status
    assert part in answer.content.decode()
    assert not RunMarker.objects.exists()


def test_a_run_has_so_many_markers_and_no_more(client: Client, over: Run) -> None:
    RunMarker.objects.bulk_create(RunMarker(run=over, at_s=1, text="a", who="b") for _ in range(500))
    answer = client.post(f"/api/runs/{over.pk}/markers", {"text": "one more", "at_s": 3}, **JSON)
    assert answer.status_code == 409
    assert "500 markers" in answer.json()["detail"]


def test_who_deploys_marks_every_run_on_the_system_at_the_time(client: Client, live: Run, over: Run) -> None:
    system = systems.create(TESTS, {"name": "Quillport", "base_url": "http://127.0.0.1:1"}).pk
    Run.objects.update(system=system)
    address = f"/api/systems/{system}/markers"
    now = client.post(address, {"text": "planner 3.4 is up"}, **JSON)
    assert now.status_code == 201
    assert [one["run_id"] for one in now.json()] == [live.pk]
    over.refresh_from_db()
    assert over.ended_at
    then = over.ended_at - timedelta(seconds=20)
    earlier = client.post(address, {"text": "config changed", "at": then.isoformat()}, **JSON).json()
    assert [(one["run_id"], round(one["at_s"])) for one in earlier] == [(over.pk, 40)]
    long_ago = datetime.now(UTC) - timedelta(days=3)
    assert client.post(address, {"text": "nobody saw it", "at": long_ago.isoformat()}, **JSON).json() == []
    notes = [deed["note"] for deed in client.get(f"/api/deeds?kind=system&object_id={system}").json()["deeds"]]
    assert notes[0] == "nobody saw it; no run was under way"
