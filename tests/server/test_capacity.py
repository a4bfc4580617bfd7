"""Capacity plans over the API: kept as documents, answered from the demo's season, refused by name."""

from __future__ import annotations

from datetime import date
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client

from stonekettle.server.capacity import demo as capacity
from stonekettle.server.capacity.models import CapacityTrial
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import demo, season
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run
from stonekettle.server.systems import rules as systems
from stonekettle.server.systems.models import System
from tests.server.acting import TESTS

pytestmark = pytest.mark.django_db
TRAMS = "Quillport Tramways"


@pytest.fixture
def plan(planner: User) -> int:
    """The demo's plan, with no run to rest on."""
    return capacity.describe(TESTS, _festival(demo.describe(TESTS)), date(2026, 11, 28)).pk


@pytest.fixture
def seeded(planner: User) -> int:
    """The demo's plan, with its season."""
    made = demo.describe(TESTS)
    season.seed(TESTS, made)
    return capacity.describe(TESTS, _festival(made), date(2026, 11, 28)).pk


def _festival(made: list[Experiment]) -> Experiment:
    return next(one for one in made if one.name == capacity.EXPERIMENT)


def save(client: Client, plan: int, **changes: Any) -> Any:
    held = client.get(f"/api/capacity/{plan}").json()
    body = {"document": {**held["document"], **changes}, "base": held["revision"]}
    return client.put(f"/api/capacity/{plan}", body, content_type="application/json")


def test_the_demo_answers_by_its_season_and_says_that_it_is_played(client: Client, seeded: int) -> None:
    told = client.get(f"/api/capacity/{seeded}/answer").json()
    newest = Run.objects.filter(seeded=True, revision__experiment__name=capacity.EXPERIMENT).order_by("-pk")[0]
    assert told["rests_on"] == [newest.pk]
    assert any("a simulation, not a measurement" in line for line in told["unknown"])
    # The season ends with a bigger ledger, which the system's document does not have.
    assert "`ledger` was measured as harbour-6d; harbour-4d is taken to do 0.667 times" in " ".join(told["unknown"])
    by_name = {one["name"]: one for one in told["components"]}
    assert by_name["ledger"]["planned"] > by_name["ledger"]["now"] == 1
    assert told["peak"] == pytest.approx(480 * 1.15)
    cost = sum(one["per_hour"] for one in told["components"])
    assert told["per_hour"] == pytest.approx(cost)
    # The ledger is full at some 390 users; 85 % of it is what is allowed.
    assert 270 < told["now_whole"] < 350
    assert by_name["ledger"]["now_ceiling"] == pytest.approx(told["now_whole"], rel=0.02)
    assert told["timeline"][0]["load"] == pytest.approx(210 * 1.15)
    assert date.fromisoformat(by_name["ledger"]["until"]) > date(2026, 11, 28)
    for goal in told["goals"]:
        assert goal["judged"]["low"] <= goal["judged"]["value"] <= goal["judged"]["high"]
        assert goal["judged_lost"]["value"] <= goal["limit"]


def test_what_changes_the_plan_changes_the_answer(client: Client, seeded: int) -> None:
    before = client.get(f"/api/capacity/{seeded}/answer").json()
    assert save(client, seeded, lost=0, headroom="0 %").status_code == 200
    after = client.get(f"/api/capacity/{seeded}/answer").json()
    assert after["per_hour"] < before["per_hour"]
    assert after["lost"] is None
    assert save(client, seeded, think="1 s").status_code == 200
    hurried = client.get(f"/api/capacity/{seeded}/answer").json()
    assert hurried["rate"] > 1.5 * after["rate"]
    assert save(client, seeded, mix={"Check departures": 1}).status_code == 200
    mixed = client.get(f"/api/capacity/{seeded}/answer").json()
    assert next(one for one in mixed["components"] if one["name"] == "ledger")["use"]["value"] < 0.3
    client.post(f"/api/capacity/{seeded}/undo", {}, content_type="application/json")
    undone = client.get(f"/api/capacity/{seeded}").json()
    assert "mix" not in undone["document"]
    assert undone["can_redo"]

    told = {one["label"]: one for one in client.get(f"/api/capacity/{seeded}/otherwise").json()}
    assert "People think half as long" in told
    assert any(label.startswith("10 % more of the steps are") for label in told)
    half = told["People think half as long"]
    assert half["holds"] or half["adds"]


def test_runs_and_names_that_are_not_there_are_refused_by_their_field(client: Client, seeded: int) -> None:
    for changes, said in (
        ({"runs": [99_999]}, "runs: run 99999 is none that measured"),
        ({"sizes": [{"component": "mail", "name": "b", "times": 2, "price_per_hour": 1}]}, "sizes[0].component"),
        ({"mix": {"Sell": 1}}, "mix: there is no journey named 'Sell'"),
        ({"system": "Nowhere"}, "system: there is no system named 'Nowhere'"),
    ):
        saved = save(client, seeded, **changes)
        assert saved.status_code == 200, saved.content
        answer = client.get(f"/api/capacity/{seeded}/answer")
        assert answer.status_code == 422
        assert said in answer.json()["detail"]
        client.post(f"/api/capacity/{seeded}/undo", {}, content_type="application/json")

    runs = list(Run.objects.filter(seeded=True, system__name=TRAMS).order_by("-pk").values_list("pk", flat=True)[:3])
    assert save(client, seeded, runs=runs).status_code == 200
    told = client.get(f"/api/capacity/{seeded}/answer").json()
    assert told["rests_on"] == sorted(runs, reverse=True)


def test_a_system_without_a_run_says_what_to_do(client: Client, planner: User) -> None:
    system = systems.create(TESTS, {"name": "Fresh", "base_url": "http://127.0.0.1:8000"})
    made = client.post("/api/capacity", {"system_id": system.pk}, content_type="application/json")
    assert made.status_code == 201
    plan = client.get(f"/api/capacity/{made.json()['id']}").json()
    assert plan["name"].startswith("Fresh in ")
    answer = client.get(f"/api/capacity/{plan['id']}/answer")
    assert answer.status_code == 409
    assert "Run an experiment of it with meters" in answer.json()["detail"]


def test_a_plan_follows_its_system_when_that_is_renamed(client: Client, plan: int) -> None:
    system = System.objects.get(name=TRAMS)
    systems.drafts.save(TESTS, system, {**system.document, "name": "Tramways of Quillport"})
    assert client.get(f"/api/capacity/{plan}").json()["system"] == "Tramways of Quillport"
    assert "Tramways of Quillport" in client.get(f"/api/capacity/{plan}/answer").json()["detail"]


def test_a_document_comes_in_goes_out_and_is_archived(client: Client, plan: int) -> None:
    source = client.get(f"/api/capacity/{plan}/plan.yaml").content.decode()
    again = client.post("/api/capacity", {"source": source}, content_type="application/json")
    assert again.status_code == 422
    assert "there is a capacity plan named" in again.json()["detail"]
    renamed = source.replace("Two years of tickets", "Another")
    made = client.post("/api/capacity", {"source": renamed}, content_type="application/json").json()["id"]
    assert [one["name"] for one in client.get("/api/capacity").json()] == ["Another", "Two years of tickets"]
    client.post(f"/api/capacity/{made}/archive", {"archived": True}, content_type="application/json")
    assert [one["name"] for one in client.get("/api/capacity?archived=true").json()] == ["Another"]
    assert save(client, made, lost=2).status_code == 409


def test_a_trial_goes_to_the_peak_and_tells_what_came_of_what_was_foretold(client: Client, seeded: int) -> None:
    assert client.get(f"/api/capacity/{seeded}/trials").json() == {"trials": [], "off": None}
    made = client.post(f"/api/capacity/{seeded}/trials", {}, content_type="application/json")
    assert made.status_code == 201, made.content
    experiment = Experiment.objects.get(pk=made.json()["experiment_id"])
    plan = experiment.current.plan
    assert (experiment.name, experiment.peak) == ("Two years of tickets: trial", 552)
    assert [one.values["component"] for one in plan.timeline[:4]] == ["gateway", "planner", "stopboard", "ledger"]
    assert {one.values["count"] for one in plan.timeline[4:]} == {"1"}, "and back again in the end"
    assert plan.planned.peak_users == 552
    assert plan.objectives
    (trial,) = client.get(f"/api/capacity/{seeded}/trials").json()["trials"]
    assert (trial["run"], trial["otherwise"]) == (None, "")

    # What its run would find, by one of the season whose highest level has another load and other instances.
    donor = Run.objects.filter(seeded=True, revision__experiment__name=capacity.EXPERIMENT).order_by("-pk")[0]
    run = Run.objects.create(
        revision=experiment.current, plan_document=donor.plan_document, state="finished", result=donor.result
    )
    (trial,) = client.get(f"/api/capacity/{seeded}/trials").json()["trials"]
    assert trial["run"] == run.pk
    told = CapacityTrial.objects.get()
    told.foretold["users"] = 5_000
    told.save()
    (trial,) = client.get(f"/api/capacity/{seeded}/trials").json()["trials"]
    assert trial["otherwise"] == f"Run {run.pk} has no level at the peak, so it says nothing of it."
    analysis = findings_of(run)
    assert analysis is not None
    peak = max(analysis.levels, key=lambda level: level.load.delivered)
    told.foretold["users"] = peak.load.delivered
    told.save()
    (trial,) = (told_now := client.get(f"/api/capacity/{seeded}/trials").json())["trials"]
    assert "instead of" in trial["otherwise"]
    assert told_now["off"] is None, "a run with other instances tells nothing of the plan"
    goal = next(one for one in trial["goals"] if one["seen"] is not None)
    assert goal["within"] == (goal["judged"]["low"] <= goal["seen"] <= goal["judged"]["high"])
    told.foretold["counts"] = {one["component"]: 1 for one in trial["uses"]}
    for use, tried in zip(told.foretold["uses"], trial["uses"], strict=True):
        use["servers"] *= tried["instances"]
    told.save()
    told_now = client.get(f"/api/capacity/{seeded}/trials").json()
    assert told_now["trials"][0]["otherwise"] == ""
    assert told_now["off"] > 0
