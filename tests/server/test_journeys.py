"""Journeys over HTTP: written, tried once, named by experiments."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from stonekettle.cli.run import PracticeProcess
from stonekettle.engine.script import compile_plan
from stonekettle.plan import advice, document
from stonekettle.practice.portal import PASSWORD
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.feeds import rules as feeds
from stonekettle.server.journeys.models import Journey
from stonekettle.server.systems import rules as systems
from stonekettle.server.systems.models import System
from tests.plan.imports.test_har import entry, recording
from tests.server.acting import TESTS
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
        held = self.get(journey)
        body = {"document": {**held["document"], **changes}, "base": held["revision"]}
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
    systems.create(TESTS, {"name": "Quillport", "base_url": "practice://gateway"})
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


def test_a_trial_does_not_count_for_what_was_typed_after_it(journeys: Journeys) -> None:
    made = journeys.create(name="Buy", steps=[HOME])
    held = journeys.get(made)
    Journey.objects.filter(pk=made).update(tried_position=Journey.objects.get(pk=made).position)
    assert journeys.get(made)["passed"]
    for continues in (False, True):
        body = {"document": {**held["document"], "notes": f"{continues}"}, "base": held["revision"], "editor": "a page"}
        answer = journeys.client.put(
            f"/api/journeys/{made}", {**body, "continues": continues}, content_type="application/json"
        )
        assert answer.json()["passed"] is False
        Journey.objects.filter(pk=made).update(tried_position=Journey.objects.get(pk=made).position)


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


SECRETS = {
    "headers": {"X-Api-Key": "hush-key", "Authorization": "Bearer hush-bearer", "Accept-Language": "de"},
    "json": {"client_secret": "hush-secret", "login": {"newPassword": "hush-new", "user": "anna"}},
}


def test_secrets_in_steps_are_kept_and_never_shown(journeys: Journeys, client: Client) -> None:
    form = {"user": "anna", "password": "hush-form", "form_token": "{{form_token}}"}
    steps = [
        HOME,
        {"name": "Enter", "request": "POST /enter?access_token=hush-query&page=2", **SECRETS},
        {"name": "Sign in", "request": "POST /in", "form": form},
        {"name": "Raw", "request": "POST /raw", "body": "user=anna&pwd=hush-raw"},
    ]
    made = journeys.create(name="Buy", steps=steps)
    shown = journeys.get(made)["document"]["steps"]
    assert shown[1]["request"] == "POST /enter?access_token=(kept)&page=2"
    assert shown[1]["headers"] == {"X-Api-Key": "(kept)", "Authorization": "(kept)", "Accept-Language": "de"}
    assert shown[2]["form"] == {"user": "anna", "password": "(kept)", "form_token": "{{form_token}}"}
    for path in (f"/api/journeys/{made}", f"/api/journeys/{made}/journey.yaml", "/api/journeys"):
        assert b"hush" not in client.get(path).content
    # Renamed, moved and edited, each keeps its own.
    shown[1]["name"], shown[2]["form"]["user"] = "Go in", "berta"
    journeys.save(made, steps=[HOME, shown[3], shown[1], shown[2]])
    kept = Journey.objects.get(pk=made).current.document["steps"]
    assert kept[1]["body"] == "user=anna&pwd=hush-raw"
    assert kept[2]["request"] == "POST /enter?access_token=hush-query&page=2"
    assert {key: kept[2][key] for key in SECRETS} == SECRETS
    assert kept[3]["form"] == {**form, "user": "berta"}


def test_kept_secrets_do_not_follow_a_journey_to_another_origin(journeys: Journeys, client: Client) -> None:
    for name, port in (("Here", 9), ("There", 10)):
        systems.create(TESTS, {"name": name, "base_url": f"http://127.0.0.1:{port}"})
    step = {"name": "Sign in", "request": "POST /in", "form": {"password": "hush-form"}}
    made = journeys.create(name="Buy", system="Here", steps=[step])
    assert Journey.objects.get(pk=made).draft.secrets_for == "http://127.0.0.1:9"
    (problem,) = journeys.save(made, 422, system="There")["problems"]
    assert "given for http://127.0.0.1:9, and 'There' is at http://127.0.0.1:10" in problem["message"]
    moved = {"name": "Sign in", "request": "POST http://127.0.0.1:11/in", "form": {"password": "(kept)"}}
    (problem,) = journeys.save(made, 422, steps=[moved])["problems"]
    assert problem["path"] == "steps[0].form.password"
    assert "given for the system itself, not for here" in problem["message"]
    # The system moves away under it: neither a trial nor a run sends what was given for the other place.
    here = System.objects.get(name="Here")
    systems.drafts.save(TESTS, here, {"name": "Here", "base_url": "http://127.0.0.1:12"})
    (problem,) = journeys.post(f"/{made}/trial", 422)["problems"]
    assert "are for http://127.0.0.1:9, the system is at http://127.0.0.1:12" in problem["message"]
    journeys.save(made, steps=[{**step, "form": {"password": "hush-again"}}])
    assert Journey.objects.get(pk=made).draft.secrets_for == "http://127.0.0.1:12"


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
    assert "password" in journeys.get(imported)["missing"]


def test_experiments_name_journeys_and_follow_them(journeys: Journeys) -> None:
    made = journeys.create(name="Sign in", steps=[HOME, SIGN_IN], sample={"rider": "r-7"})
    head, _, rest = QUICK.partition("journeys:\n")
    named = f"{head}journeys:\n  - {{journey: Sign in, weight: 3}}\n\n{rest[rest.index('load:') :]}"
    named = re.sub(r"  - \{step: .*\n", "", named)
    experiment = experiments.create(TESTS, re.sub(r"feeds:\n(?:[ \t]+.*\n|\n)+", "", named))
    plan = experiment.current.plan
    assert (plan.journeys[0].name, plan.journeys[0].weight) == ("Sign in", 3.0)
    assert "sends the same rider" in " ".join(advice.of(plan))
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

    def told() -> dict[str, str]:
        lines = journeys.client.get(f"/api/experiments/{experiment.pk}/readiness").json()["lines"]
        return next(line for line in lines if line["key"] == "journeys")

    assert told()["state"] == "warns"
    assert (told()["text"], told()["link"]) == ("Sign in has not passed a trial as it is now.", f"/journeys/{made}")
    draft = Journey.objects.get(pk=made)
    Journey.objects.filter(pk=made).update(tried_position=draft.position)
    assert told()["state"] == "ready"
    journeys.save(made, name="Log in")
    assert "{journey: Log in, weight: 3}" in experiments.Experiment.objects.get().current.text
    assert experiments.Experiment.objects.get().current.plan.journeys[0].name == "Log in"
    assert experiments.current_plan(experiments.Experiment.objects.get()).journeys[0].name == "Log in"


def test_credentials_do_not_stand_in_an_experiments_text(client: Client) -> None:
    source = QUICK.replace("    weight: 50\n", "    weight: 50\n    session: {credentials: {bearer: hush}}\n")
    answer = client.post("/api/plans/check", {"source": source}, content_type="application/json")
    (problem,) = answer.json()["problems"]
    assert problem["path"] == "journeys[0]"
    assert "readable in this text" in problem["message"]


def imported(client: Client, content: bytes, **use: Any) -> Any:
    told = json.dumps({"name": "Recorded", "system": "Quillport", "accept": [], **use})
    answer = client.post("/api/journey-files", {"file": SimpleUploadedFile("visit.har", content), "use": told})
    assert answer.status_code == 201, answer.content
    return answer.json()["id"]


@pytest.mark.usefixtures("quillport")
def test_recorded_answers_stand_beside_received_ones_and_go_with_a_copy(journeys: Journeys, client: Client) -> None:
    page = "<!doctype html><html><h1>Log in</h1></html>"
    made = imported(client, recording(entry(0, "GET /portal/login", page), entry(2, "GET /nowhere", page)))
    copy = journeys.post(f"/{made}/duplicate", 201)["id"]
    for journey in (made, copy):
        trial = journeys.post(f"/{journey}/trial")
        assert "failed at step 'GET /nowhere'" in trial["reason"]
        login, nowhere = (step["comparison"] for step in trial["steps"])
        assert (login["same"], login["facts"]) == (False, [])
        marked = [span["text"] for row in login["rows"] for span in row["recorded"] or () if span["differs"]]
        assert "Log" in " ".join(marked)
        assert nowhere["facts"][0] == "Status 200 was recorded, 404 received."
    # The answer belongs to its step, whatever that is called and wherever it stands.
    steps = journeys.get(made)["document"]["steps"]
    journeys.save(made, steps=[{**steps[1], "name": "Lost", "expect_status": [404]}, {**steps[0], "name": "Door"}])
    lost, door = journeys.post(f"/{made}/trial")["steps"]
    assert lost["comparison"]["facts"]
    assert not door["comparison"]["facts"]


def test_other_hosts_of_a_recording_are_offered(journeys: Journeys, client: Client) -> None:
    other = "http://api.trams.example"
    content = recording(
        entry(0, "GET /", "<p>page</p>"), entry(2, "GET /stops", "[]", kind="application/json", host=other)
    )

    def look(hosts: list[str]) -> Any:
        file = SimpleUploadedFile("visit.har", content)
        return client.post("/api/journey-files/look", {"file": file, "hosts": hosts}).json()

    alone = look([])
    assert [host["name"] for host in alone["hosts"]] == ["trams.example", "api.trams.example"]
    assert len(alone["steps"]) == 1
    assert look(["api.trams.example"])["steps"][1]["request"] == f"GET {other}/stops"
    made = imported(client, content, hosts=["api.trams.example"])
    assert journeys.get(made)["document"]["steps"][1]["request"] == f"GET {other}/stops"


@pytest.mark.usefixtures("quillport")
def test_a_host_that_may_not_be_loaded_is_refused_before_the_trial(journeys: Journeys) -> None:
    step = {"name": "Ads", "request": "GET http://10.1.2.3/pixel"}
    made = journeys.create(name="Ads", system="Quillport", steps=[step])
    (problem,) = journeys.post(f"/{made}/trial", 422)["problems"]
    assert "10.1.2.3" in problem["message"]
    assert "not an allowed target" in problem["message"]


@pytest.mark.usefixtures("quillport")
def test_a_trial_sends_the_first_row_of_the_journeys_feeds(journeys: Journeys, client: Client) -> None:
    feeds.drafts.create(TESTS, {"name": "Riders", "csv": "rider\nr-42\nr-43\n"})
    made = journeys.create(name="Sign in", system="Quillport", steps=[HOME, SIGN_IN], feeds=["Riders"])
    trial = journeys.post(f"/{made}/trial")
    assert "Welcome, rider r-42" in trial["steps"][1]["exchanges"][0]["received_body"]
    journeys.save(made, feeds=["Nobody"], sample={"rider": "r-1"})
    (problem,) = journeys.post(f"/{made}/trial", 422)["problems"]
    assert "no feed named 'Nobody'" in problem["message"]
