"""Many started at once under a run: the calls, each followed until it is ready, and what is told of them."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Any

import pytest
import yaml
from django.contrib.auth.models import User
from django.test import Client

from stonekettle.engine.actions import ActionFailed
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.server.changes import noting, storms, tasks
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.runs import data
from stonekettle.server.runs.models import Run, RunMarker
from stonekettle.server.systems import rules as systems
from tests.ops import Ops
from tests.server.acting import TESTS
from tests.server.conftest import example

pytestmark = pytest.mark.django_db
JSON: Any = {"content_type": "application/json"}
ALL = {
    "name": "Start many",
    "does": {"call": "PUT /desks", "body": '{"desks": {{count}}}'},
    "probe": {"ask": "/desks/{{number}}/ready", "every": "0.25 s", "within": "3 s", "first": 5},
}
EACH = {
    "name": "Start each",
    "does": {"call": "POST /desks/{{number}}"},
    "probe": {"ask": "/desks/{{number}}/ready", "every": "0.25 s", "within": "3 s"},
}


@pytest.fixture
def run(planner: User, ops: Ops) -> Run:
    told = yaml.safe_load(example("quick"))
    told["system"]["operations"] = {"address": ops.url, "changes": [ALL, EACH]}
    told["system"] = systems.create(TESTS, told["system"]).name
    revision = experiments.create(TESTS, yaml.safe_dump(told, sort_keys=False)).current
    return Run.objects.create(
        revision=revision, plan_document=revision.document, state="running", begun_at=time.time() - 40
    )


def ask(client: Client, run: Run, name: str, count: str) -> Any:
    return client.post(f"/api/runs/{run.pk}/changes", {"name": name, "values": {"count": count}}, **JSON)


def up_after(ops: Ops, first: int, seconds: list[float]) -> None:
    now = time.monotonic()
    ops.up = {f"/desks/{first + k}/ready": now + after for k, after in enumerate(seconds)}


def test_all_are_started_by_one_call_and_each_is_followed(client: Client, run: Run, ops: Ops) -> None:
    asked = ask(client, run, "Start many", "4")
    assert asked.status_code == 202
    up_after(ops, 5, [0.0, 0.3, 0.6, 1.2])
    tasks.make(asked.json()["id"])
    started = [(method, path, body) for method, path, _, body in ops.asked if not path.endswith("/ready")]
    assert started == [("PUT", "/desks", b'{"desks": 4}')]
    told = client.get(f"/api/runs/{run.pk}/changes/{asked.json()['id']}").json()
    assert (told["asked"], told["ready"], told["state"], told["fault"]) == (4, 4, "ready", "")
    assert told["sentence"].startswith("All 4 were ready after ")
    after = [one["after_s"] for one in told["curve"]]
    assert after == sorted(after)
    assert [one["ready"] for one in told["curve"]] == [1, 2, 3, 4]
    assert after[-1] - after[0] > 0.8
    assert [one["share"] for one in told["marks"]] == [50, 90, 99, 100]
    assert told["marks"][-1]["after_s"] == after[-1]
    assert (told["every_s"], told["late"], told["others"]) == (0.25, [], [])
    (line,) = client.get(f"/api/runs/{run.pk}/changes").json()["made"]
    assert (line["many"], line["told"][-1]["ready"], line["told"][-1]["of"]) == (4, 4, 4)
    assert RunMarker.objects.filter(run=run, text__contains="all 4 ready").exists()


def test_each_is_started_by_a_call_of_its_own_and_who_never_came_is_named(client: Client, run: Run, ops: Ops) -> None:
    asked = ask(client, run, "Start each", "3")
    up_after(ops, 0, [0.0, 99.0, 0.2])
    tasks.make(asked.json()["id"])
    started = sorted(path for method, path, _, _ in ops.asked if method == "POST")
    assert started == ["/desks/0", "/desks/1", "/desks/2"]
    told = client.get(f"/api/runs/{run.pk}/changes/{asked.json()['id']}").json()
    assert (told["ready"], told["state"]) == (2, "failed")
    assert told["fault"] == "1 of 3 were not ready within 3 s."
    assert told["late"] == [{"number": 1, "after_s": None, "last": "status 503"}]
    assert told["marks"][-1] == {"share": 100, "after_s": None}
    assert (told["missing"], told["sentence"][:32]) == ("not within 3 s", "2 of 3 were ready within 3 s: ha")


def test_where_none_can_be_started_it_says_why(client: Client, run: Run, ops: Ops) -> None:
    ops.status = 507
    asked = ask(client, run, "Start each", "3")
    tasks.make(asked.json()["id"])
    change = SystemChange.objects.get(pk=asked.json()["id"])
    assert change.state == "failed"
    assert "none was started: POST /desks/" in change.fault
    assert "status 507" in change.fault


def test_it_ends_with_its_run_and_what_was_seen_by_then_is_kept(
    client: Client, run: Run, ops: Ops, monkeypatch: pytest.MonkeyPatch
) -> None:
    looks: list[int] = []

    def check(of: Run) -> None:
        looks.append(of.pk)
        if len(looks) > 3:
            raise ActionFailed("the run ended before it was done")

    monkeypatch.setattr(noting, "check", check)
    monkeypatch.setattr(storms, "LOOK_S", 0.3)
    asked = ask(client, run, "Start many", "2")
    up_after(ops, 5, [0.0, 99.0])
    tasks.make(asked.json()["id"])
    change = SystemChange.objects.get(pk=asked.json()["id"])
    assert (change.state, change.fault) == ("failed", "the run ended before it was done")
    assert [at is not None for _, at, _ in change.each] == [True, False]
    told = client.get(f"/api/runs/{run.pk}/changes/{change.pk}").json()
    assert (told["missing"], told["sentence"][:41]) == (
        "not by the end of the run",
        "1 of 2 were ready by the end of the run: ",
    )
    assert not any(thread.name == "prober" for thread in threading.enumerate())


@pytest.mark.parametrize(
    ("count", "said"), [("0", "from 1 to 5000"), ("5001", "from 1 to 5000"), ("many", "from 1 to 5000")]
)
def test_how_many_has_a_bound(client: Client, run: Run, count: str, said: str) -> None:
    answer = ask(client, run, "Start many", count)
    assert answer.status_code == 422
    assert said in str(answer.json())
    assert not SystemChange.objects.exists()


def test_two_storms_are_held_against_each_other(client: Client, run: Run) -> None:
    def storm(times: float) -> SystemChange:
        each = [[number, 10.0 + times * (1 + number / 10), "status 200"] for number in range(60)]
        return SystemChange.objects.create(
            run=run, name="Start many", values={"count": "60"}, who="ci", asked_s=10.0, state="ready", each=each
        )

    first, second = storm(1.0), storm(3.0)
    told = client.get(f"/api/runs/{run.pk}/changes/{second.pk}", {"against": first.pk}).json()
    assert told["against"] == first.pk
    assert [one["id"] for one in told["others"]] == [first.pk]
    assert told["apart"][0]["ratio"] == pytest.approx(3.0)
    assert "% later than in run" in told["apart_sentence"]
    alone = client.get(f"/api/runs/{run.pk}/changes/{second.pk}").json()
    assert (alone["against"], alone["apart"], alone["apart_sentence"]) == (None, [], "")


def test_a_change_that_started_nothing_tells_no_curve(client: Client, run: Run) -> None:
    change = SystemChange.objects.create(run=run, name="Start many", values={"count": "2"}, who="ci", asked_s=1.0)
    answer = client.get(f"/api/runs/{run.pk}/changes/{change.pk}")
    assert (answer.status_code, "nothing was asked after" in answer.json()["detail"]) == (409, True)
    assert client.get(f"/api/runs/{run.pk + 1}/changes/{change.pk}").status_code == 404


def test_what_disks_did_meanwhile_stands_beside_it(client: Client, make_run: Callable[..., Run]) -> None:
    """From second 20 on a read takes 20 ms instead of 4, and a block is twice as large."""
    run = make_run(60)
    run.meter_series.all().delete()
    run.meter_scrapes.all().delete()
    catalogue = Catalogue()
    reads, took, size = (
        Source("ledger", "ledger:1", f"host_disk_{name}", (), "counter")
        for name in ("reads", "read_seconds", "read_bytes")
    )

    def grown(t: int, before: float, since: float) -> float:
        return before * min(t, 20) + since * max(0, t - 20)

    data.store(
        run.pk,
        [
            catalogue.batch(
                t, [(reads, t, 50.0 * t), (took, t, grown(t, 0.2, 1.0)), (size, t, grown(t, 204_800, 409_600))]
            )
            for t in range(61)
        ],
    )
    change = SystemChange.objects.create(
        run=run, name="Start many", who="ci", asked_s=20.0, state="ready", each=[[k, 25.0 + k, ""] for k in range(10)]
    )
    (disk,) = client.get(f"/api/runs/{run.pk}/changes/{change.pk}").json()["disks"]
    assert (disk["component"], disk["op"], disk["from_s"], disk["every_s"]) == ("ledger", "read", -10.0, 1.0)
    assert disk["before"] == pytest.approx({"rate": 50, "took_s": 0.004, "size_bytes": 4096})
    assert disk["meanwhile"] == pytest.approx({"rate": 50, "took_s": 0.02, "size_bytes": 8192})
    assert len(disk["values"]) == 50
    assert disk["values"][-1]["took_s"] == pytest.approx(0.02)
