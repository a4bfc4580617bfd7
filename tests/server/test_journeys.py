"""Journeys over HTTP: written, tried once, named by experiments."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client

from stonekettle.cli.run import PracticeProcess
from stonekettle.engine.script import compile_plan
from stonekettle.plan import document
from stonekettle.practice.portal import PASSWORD
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.journeys.models import Journey
from stonekettle.server.systems import rules as systems
from tests.server.conftest import QUICK

pytestmark = pytest.mark.django_db
HOME = {"name": "Home", "request": "GET /portal/login", "keep": [{"name": "form_token", "field": "form_token"}]}
SIGN_IN = {
    "name": "Sign in",
    "request": "POST /portal/login",
    "form": {"rider": "{{rider}}", "password": PASSWORD, "form_token": "{{form_token}}"},
    "redirects": True,
    "checks": [{"contains": "Welcome"}],
}


class Journeys:
    """The journeys' addresses through a signed-in client."""

    def __init__(self, client: Client) -> None:
        self.client = client

    def create(self, **document: Any) -> int:
        made = int(self.post("", 201)["id"])
        self.save(made, **document)
        return made

    def get(self, journey: int) -> Any:
        return self.client.get(f"/api/journeys/{journey}").json()

    def save(self, journey: int, status: int = 200, **changes: Any) -> Any:
        body = {"document": {**self.get(journey)["document"], **changes}}
        answer = self.client.put(f"/api/journeys/{journey}", body, content_type="application/json")
        assert answer.status_code == status, answer.content
        return answer.json()

    def post(self, path: str, status: int = 200, **body: Any) -> Any:
        answer = self.client.post(f"/api/journeys{path}", body, content_type="application/json")
        assert answer.status_code == status, answer.content
        return answer.json()


@pytest.fixture
def journeys(client: Client) -> Journeys:
    return Journeys(client)


@pytest.fixture
def quillport(settings: Any, planner: User) -> Iterator[None]:
    """The practice system, described as the system Quillport."""
    systems.create({"name": "Quillport", "base_url": "practice://gateway"}, planner)
    with PracticeProcess() as process:
        settings.PRACTICE_CONTROL = process.control_url
        yield


@pytest.mark.usefixtures("quillport")
def test_a_journey_is_tried_and_its_passing_remembered_until_it_changes(journeys: Journeys) -> None:
    made = journeys.create(name="Sign in", system="Quillport", steps=[HOME, SIGN_IN], sample={"rider": "r-7"})
    assert journeys.get(made)["passed"] is False
    trial = journeys.post(f"/{made}/trial")
    assert trial["passed"] is True, trial["reason"]
    assert [step["name"] for step in trial["steps"]] == ["Home", "Sign in"]
    assert "Welcome, rider r-7" in trial["steps"][1]["exchanges"][0]["received_body"]
    assert journeys.get(made)["passed"] is True
    journeys.save(made, notes="changed since")
    assert journeys.get(made)["passed"] is False


@pytest.mark.usefixtures("quillport")
def test_a_failed_trial_tells_why_and_is_remembered(journeys: Journeys) -> None:
    wrong = {**SIGN_IN, "form": {**SIGN_IN["form"], "password": "wrong"}}  # type: ignore[dict-item]
    made = journeys.create(name="Sign in", system="Quillport", steps=[HOME, wrong], sample={"rider": "r-7"})
    trial = journeys.post(f"/{made}/trial")
    assert trial["passed"] is False
    assert "failed at step 'Sign in'" in trial["reason"]
    assert journeys.get(made)["trial_reason"] == trial["reason"]


@pytest.mark.parametrize(
    ("changes", "part"),
    [
        ({}, "no system is chosen"),
        ({"system": "Nowhere"}, "no system named 'Nowhere'"),
        ({"system": "Quillport"}, "no step to try"),
        ({"system": "Quillport", "steps": [HOME, SIGN_IN]}, "no value is given for rider"),
    ],
)
@pytest.mark.usefixtures("quillport")
def test_what_keeps_it_from_being_tried_is_told(journeys: Journeys, changes: dict[str, Any], part: str) -> None:
    made = journeys.create(**changes)
    (problem,) = journeys.post(f"/{made}/trial", 422)["problems"]
    assert part in problem["message"]
    assert problem["mend"]


def test_faults_are_told_with_their_place(journeys: Journeys) -> None:
    made = journeys.create(name="Buy", steps=[HOME])
    bad = {**HOME, "name": "Bad", "keep": [{"name": "x", "json": "ticket"}]}
    (problem,) = journeys.save(made, 422, steps=[HOME, bad])["problems"]
    assert problem["path"] == "steps[1].keep[0].json"
    (problem,) = journeys.save(made, 422, steps=[HOME, HOME])["problems"]
    assert "more than once" in problem["message"]
    assert len(journeys.get(made)["document"]["steps"]) == 1


def test_missing_values_are_named_while_one_writes(journeys: Journeys) -> None:
    made = journeys.create(name="Buy", steps=[SIGN_IN])
    assert journeys.get(made)["missing"] == ["rider", "form_token"]
    journeys.save(made, steps=[HOME, SIGN_IN], sample={"rider": "r-1"})
    assert journeys.get(made)["missing"] == []


def test_secrets_are_kept_and_never_shown(journeys: Journeys, client: Client) -> None:
    made = journeys.create(name="Buy", session={"credentials": {"user": "anna", "password": "hush-hush"}})
    assert journeys.get(made)["document"]["session"]["credentials"]["password"] == "(kept)"
    journeys.save(made, notes="more")
    assert Journey.objects.get(pk=made).draft.session.credentials.password == "hush-hush"  # type: ignore[union-attr]
    assert b"hush-hush" not in client.get(f"/api/journeys/{made}/journey.yaml").content


def test_undo_copy_archive_and_import(journeys: Journeys, client: Client) -> None:
    made = journeys.create(name="Buy", steps=[HOME])
    journeys.save(made, steps=[HOME, SIGN_IN])
    assert journeys.post(f"/{made}/undo")["steps"] == ["Home"]
    assert journeys.post(f"/{made}/redo")["steps"] == ["Home", "Sign in"]
    copy = journeys.post(f"/{made}/duplicate", 201)["id"]
    assert journeys.get(copy)["name"] == "Buy copy"
    journeys.post(f"/{copy}/archive", archived=True)
    assert [j["name"] for j in client.get("/api/journeys").json()] == ["Buy"]
    text = client.get(f"/api/journeys/{made}/journey.yaml").content.decode().replace("name: Buy", "name: Imported")
    imported = journeys.post("", 201, source=text)["id"]
    assert journeys.get(imported)["steps"] == ["Home", "Sign in"]


def test_experiments_name_journeys_and_follow_them(journeys: Journeys) -> None:
    made = journeys.create(name="Sign in", steps=[HOME, SIGN_IN], sample={"rider": "r-7"})
    head, _, rest = QUICK.partition("journeys:\n")
    named = f"{head}journeys:\n  - {{journey: Sign in, weight: 3}}\n\n{rest[rest.index('load:') :]}"
    named = re.sub(r"  - \{step: .*\n", "", named)
    experiment = experiments.create(re.sub(r"feeds:\n(?:[ \t]+.*\n|\n)+", "", named), None)
    plan = experiment.current.plan
    assert (plan.journeys[0].name, plan.journeys[0].weight) == ("Sign in", 3.0)
    assert "sends the same rider" in " ".join(document.advice(plan))
    assert compile_plan(
        document.resolved(
            plan,
            {
                "gateway": ["http://127.0.0.1:1"],
                "planner": ["http://x"],
                "stopboard": ["http://x"],
                "ledger": ["http://x"],
            },
        )
    ).samples[0]
    assert [e["name"] for e in journeys.get(made)["experiments"]] == ["Quick look"]
    untried = journeys.client.get(f"/api/experiments/{experiment.pk}").json()["untried"]
    assert untried == [{"id": made, "name": "Sign in"}]
    draft = Journey.objects.get(pk=made)
    Journey.objects.filter(pk=made).update(tried_position=draft.position)
    assert journeys.client.get(f"/api/experiments/{experiment.pk}").json()["untried"] == []
    journeys.save(made, name="Log in")
    assert '{journey: "Log in", weight: 3}' in experiments.Experiment.objects.get().current.source
    assert experiments.current_plan(experiments.Experiment.objects.get()).journeys[0].name == "Log in"


def test_credentials_do_not_stand_in_an_experiments_text(client: Client) -> None:
    source = QUICK.replace("    weight: 50\n", "    weight: 50\n    session: {credentials: {bearer: hush}}\n")
    answer = client.post("/api/plans/check", {"source": source}, content_type="application/json")
    (problem,) = answer.json()["problems"]
    assert problem["path"] == "journeys[0].session"
    assert "readable in this text" in problem["message"]
