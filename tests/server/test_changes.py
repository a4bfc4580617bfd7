"""Changes of the system under a run: asked for over HTTP, made by a worker, told with what came of them."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
import pytest
import yaml
from django.contrib.auth.models import User
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.rollup import Second
from stonekettle.server.access import halting
from stonekettle.server.changes import effects, rules, tasks
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.changes.timeline import Timeline
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.runs import merging
from stonekettle.server.runs.models import Generator, Run, RunMarker
from stonekettle.server.systems import rules as systems
from tests.ops import Ops
from tests.server.acting import TESTS
from tests.server.conftest import example, store_second

pytestmark = pytest.mark.django_db
JSON: Any = {"content_type": "application/json"}
SCALE = {
    "name": "Set instances",
    "does": {"call": "PUT /components/{{component}}/instances", "body": '{"instances": {{count}}}', "signed": True},
    "ready": {"ask": "/ready", "every": "0.25 s", "within": "2 s"},
}
ASKED = {"name": "Set instances", "values": {"component": "ledger", "count": "3"}}


@pytest.fixture
def run(planner: User, ops: Ops) -> Run:
    """A run that has been under load for 40 s, on a system whose operations are a server of the test's own."""
    told = yaml.safe_load(example("quick"))
    told["system"]["operations"] = {"address": ops.url, "signing_key": "a long enough key", "changes": [SCALE]}
    told["system"] = systems.create(TESTS, told["system"]).name
    revision = experiments.create(TESTS, yaml.safe_dump(told, sort_keys=False)).current
    return Run.objects.create(
        revision=revision, plan_document=revision.document, state="running", begun_at=time.time() - 40
    )


def ask(client: Client, run: Run, **changes: Any) -> Any:
    return client.post(f"/api/runs/{run.pk}/changes", {**ASKED, **changes}, **JSON)


def made(client: Client, run: Run) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = client.get(f"/api/runs/{run.pk}/changes").json()["made"]
    return found


def test_a_change_is_called_for_signed_and_followed_until_it_is_ready(client: Client, run: Run, ops: Ops) -> None:
    ops.ready_after = 2
    can = client.get(f"/api/runs/{run.pk}/changes").json()
    assert can["can"] == [{"name": "Set instances", "asks": ["component", "count"]}]
    assert "ledger" in can["components"]
    asked = ask(client, run)
    assert asked.status_code == 202
    tasks.make(asked.json()["id"])
    method, path, headers, body = ops.asked[0]
    assert (method, path, body) == ("PUT", "/components/ledger/instances", b'{"instances": 3}')
    assert any("signature" in name.lower() for name in headers)
    (one,) = made(client, run)
    assert (one["state"], one["words"], one["fault"]) == ("ready", "Set instances: ledger, 3", "")
    assert 39 < one["asked_s"] <= one["accepted_s"] < one["ready_s"] < 60
    assert one["ready_s"] - one["accepted_s"] >= 0.5
    texts = list(RunMarker.objects.filter(run=run).values_list("text", flat=True))
    assert texts[0] == "Set instances: ledger, 3: accepted"
    assert "ready" in texts[1]
    assert "too little was measured before it" in one["sentence"]


def test_a_change_of_which_nothing_tells_that_it_is_ready_is_not_said_to_be(client: Client, run: Run) -> None:
    system = run.plan_document["system"]
    change = {key: value for key, value in SCALE.items() if key != "ready"}
    document = {**run.plan_document, "system": {**system, "operations": {**system["operations"], "changes": [change]}}}
    # The plan of a run that has begun is read once: another beginning is another run.
    Run.objects.filter(pk=run.pk).update(plan_document=document, begun_at=time.time() - 41)
    tasks.make(ask(client, run).json()["id"])
    (one,) = made(client, run)
    assert (one["state"], one["ready_s"]) == ("ready", None)
    assert one["accepted_s"] is not None
    assert not RunMarker.objects.filter(run=run, text__contains="ready").exists()


def test_a_change_that_is_refused_or_not_ready_in_time_says_why(client: Client, run: Run, ops: Ops) -> None:
    ops.status = 409
    tasks.make(ask(client, run).json()["id"])
    ops.status, ops.ready_after = 202, 1_000
    tasks.make(ask(client, run).json()["id"])
    refused, late = made(client, run)
    assert refused["state"] == late["state"] == "failed"
    assert "answered with status 409, expected was 2xx" in refused["fault"]
    assert refused["accepted_s"] is None
    assert "/ready was not ready within 2 s" in late["fault"]
    assert late["accepted_s"] is not None


@pytest.mark.parametrize(
    ("changes", "status", "said"),
    [
        ({"name": "Burn it"}, 409, "knows no change called 'Burn it'. There are: Set instances."),
        ({"values": {"component": "ledger"}}, 422, "values.count"),
        (
            {"values": {"component": "crane", "count": "2"}},
            422,
            "there is no component named 'crane'",
        ),
        (
            {"values": {"component": "ledger", "count": "2/../9"}},
            422,
            "'2/../9' cannot be put into a call",
        ),
    ],
)
def test_what_cannot_be_asked_for_is_refused(
    client: Client, run: Run, changes: dict[str, Any], status: int, said: str
) -> None:
    answer = ask(client, run, **changes)
    assert answer.status_code == status
    assert said in answer.json()["detail"]
    assert not SystemChange.objects.exists()


def test_nothing_is_changed_under_a_rehearsal_after_the_end_or_while_all_load_is_halted(
    client: Client, run: Run
) -> None:
    Run.objects.filter(pk=run.pk).update(simulated=True)
    assert "rehearsal" in ask(client, run).json()["detail"]
    Run.objects.filter(pk=run.pk).update(simulated=False, state="finished")
    assert "makes no load now (finished)" in ask(client, run).json()["detail"]
    Run.objects.filter(pk=run.pk).update(state="running")
    for _ in range(rules.MOST_AT_ONCE):
        assert ask(client, run).status_code == 202
    assert "20 changes are under way" in ask(client, run).json()["detail"]
    halting.halt(TESTS, "an outage")
    assert ask(client, run).status_code == 409


def test_a_change_that_waits_while_the_run_ends_is_not_made(client: Client, run: Run, ops: Ops) -> None:
    number = ask(client, run).json()["id"]
    Run.objects.filter(pk=run.pk).update(state="finished")
    tasks.make(number)
    (one,) = made(client, run)
    assert (one["state"], one["fault"]) == ("failed", "the run ended before it was done")
    assert ops.asked == []


def test_what_stands_on_the_timeline_is_asked_for_when_it_is_due_and_what_cannot_be_is_said(run: Run) -> None:
    values = {"component": "ledger", "count": "2"}
    dues = [
        {"at": "60 s", "change": "Set instances", "values": values},
        {"at": "20 s", "change": "Burn it"},
        {"at": "30 s", "change": "Set instances", "values": values},
    ]
    Run.objects.filter(pk=run.pk).update(plan_document={**run.plan_document, "timeline": dues})
    timeline = Timeline(run.pk)
    for _ in range(3):
        timeline.look()
    (asked,) = SystemChange.objects.filter(run=run)
    assert (asked.words, asked.who) == ("Set instances: ledger, 2", "the timeline")
    (marker,) = RunMarker.objects.filter(run=run)
    assert "Burn it was not asked for: " in marker.text
    Run.objects.filter(pk=run.pk).update(begun_at=time.time() - 61, state="draining")
    timeline.look()
    assert SystemChange.objects.filter(run=run).count() == 1, "the load is over"
    Run.objects.filter(pk=run.pk).update(state="running")
    timeline.look()
    assert SystemChange.objects.filter(run=run).count() == 2


def test_what_came_of_a_change_is_told_from_the_seconds_around_it(client: Client, run: Run) -> None:
    """Answers take 80 ms for 60 s, and 40 ms from the moment at which a change is ready."""
    generator = Generator.objects.create(run=run, name="local-1", region="local")
    chance = np.random.default_rng(1)
    for t in range(120):
        told = np.zeros(20, dtype=records.RECORD)
        told["step"], told["status"] = np.arange(20) % 5, 200
        usual_us = 80_000 if t < 60 else 40_000
        told["total_us"] = usual_us * np.exp(0.1 * chance.standard_normal(20))
        begun = [4, 4, 4, 4, 4, 0, 0]
        store_second(generator, Second(t, 30.0, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, begun), told)
    merging.merge(run.pk)
    SystemChange.objects.create(
        run=run, name="Set instances", values={"component": "ledger", "count": "3"}, who="planner", state="ready",
        asked_s=52.0, accepted_s=52.2, ready_s=60.0, told=[[53.0, 1, 3], [60.0, 3, 3]],
    )  # fmt: skip
    (one,) = made(client, run)
    assert one["settled_s"] == 60
    assert one["p95"]["low"] < 0.5 < one["p95"]["high"]
    assert one["mean"]["high"] < 0.6
    assert one["told"][-1] == {"at_s": 60.0, "ready": 3, "of": 3}
    assert "The 95th percentile fell by" in one["sentence"]
    assert "No step failed meanwhile" in one["sentence"]


def test_what_came_of_a_change_is_worked_out_anew_only_for_news(
    client: Client, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    worked: list[int] = []
    line = effects._line

    def counted(of: Run, change: SystemChange, until_s: float) -> effects.SystemChangeLine:
        worked.append(change.pk)
        return line(of, change, until_s)

    monkeypatch.setattr(effects, "_line", counted)
    change = SystemChange.objects.create(
        run=run, name="Set instances", values={"component": "ledger", "count": "3"}, who="planner", state="accepted",
        asked_s=2.0, accepted_s=2.1,
    )  # fmt: skip
    assert made(client, run) == made(client, run)
    assert worked == [change.pk]
    SystemChange.objects.filter(pk=change.pk).update(state="ready", ready_s=4.0)
    assert [one["ready_s"] for one in made(client, run)] == [4.0]
    # What meters told last is not missed.
    Run.objects.filter(pk=run.pk).update(state="finished")
    made(client, run)
    assert worked == 3 * [change.pk]
