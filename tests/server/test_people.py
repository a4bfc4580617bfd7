"""People: invited, given roles, locked out, new passwords."""

from __future__ import annotations

import json
import re
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.cache import cache
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.utils import timezone

from stonekettle.plan.problems import PlanError
from stonekettle.server.access import limits, people
from stonekettle.server.access.models import Invitation, Person, PersonalToken
from stonekettle.server.access.roles import Actor, Forbidden, Role
from stonekettle.server.history.models import Deed
from stonekettle.server.jobs import rules as jobs
from stonekettle.server.jobs import work
from stonekettle.server.jobs.models import Job
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.journeys.models import Journey
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.models import Run
from stonekettle.server.systems import rules as systems
from tests.server.acting import TESTS
from tests.server.conftest import QUICK

pytestmark = pytest.mark.django_db
GOOD = "correct horse battery"
JSON = "application/json"


def post(client: Client, address: str, body: Any = None) -> Any:
    return client.post(f"/api{address}", json.dumps(body or {}), content_type="application/json")


def test_an_invitation_makes_one_person_of_its_role_and_signs_them_in(client: Client) -> None:
    made = post(client, "/invitations", {"note": "Anna of the ferries", "role": "planner", "days": 7}).json()
    assert made["token"] not in json.dumps(list(Invitation.objects.values()), default=str)
    guest = Client()
    welcome = guest.get(f"/api/welcome/{made['token']}").json()
    assert (welcome["role"], welcome["invited_by"]) == ("planner", "planner")
    joined = post(guest, f"/welcome/{made['token']}", {"name": "anna", "password": GOOD})
    assert joined.json() == {"name": "anna", "role": "planner", "must_change": False, "outside": None}
    assert guest.get("/api/systems").status_code == 200
    assert client.get("/api/invitations").json() == []
    again = post(Client(), f"/welcome/{made['token']}", {"name": "berta", "password": GOOD})
    assert again.status_code == 409
    assert "was used" in again.json()["detail"]


def test_an_invitation_ends_by_itself_or_when_it_is_withdrawn(client: Client) -> None:
    invitation, token = people.invite(TESTS, "late", Role.READER, 1)
    Invitation.objects.filter(pk=invitation.pk).update(expires_at=timezone.now() - timedelta(seconds=1))
    assert Client().get(f"/api/welcome/{token}").status_code == 409
    invitation, token = people.invite(TESTS, "not wanted", Role.READER, 1)
    client.delete(f"/api/invitations/{invitation.pk}")
    assert Client().get(f"/api/welcome/{token}").status_code == 409


@pytest.mark.parametrize(
    ("name", "password", "path"),
    [("Planner", GOOD, "name"), ("a b", GOOD, "name"), ("", GOOD, "name"), ("anna", "short", "password")],
)
def test_a_name_that_is_taken_or_a_weak_password_is_refused_and_the_link_still_works(
    planner: User, name: str, password: str, path: str
) -> None:
    _, token = people.invite(TESTS, "somebody", Role.READER, 1)
    with pytest.raises(PlanError) as refused:
        people.accept(token, name, password, "127.0.0.1")
    assert refused.value.problems[0].path == path
    assert people.invitation_of(token)


def test_the_last_administrator_stays_one(planner: User) -> None:
    only = Person.objects.get(user=planner)
    for change in (lambda: people.give_role(TESTS, only, Role.READER), lambda: people.lock_out(TESTS, only)):
        with pytest.raises(Conflict, match="only administrator"):
            change()
    people.create("second", GOOD, Role.ADMINISTRATOR)
    people.give_role(TESTS, only, Role.READER)
    assert Person.objects.get(pk=only.pk).role == "reader"


def test_who_is_locked_out_is_out_at_once_and_can_be_let_in_again(client: Client) -> None:
    anna = people.create("anna", GOOD, Role.PLANNER)
    theirs = Client()
    theirs.force_login(anna)
    assert theirs.get("/api/systems").status_code == 200
    person = Person.objects.get(user=anna)
    assert post(client, f"/people/{person.pk}/lock").json()["active"] is False
    assert theirs.get("/api/systems").status_code == 401
    assert post(Client(), "/sign-in", {"name": "anna", "password": GOOD}).status_code == 400
    assert post(client, f"/people/{person.pk}/unlock").json()["active"] is True
    assert post(Client(), "/sign-in", {"name": "anna", "password": GOOD}).status_code == 200


def test_a_password_that_was_reset_opens_nothing_until_its_owner_chose_another(client: Client) -> None:
    anna = people.create("anna", GOOD, Role.PLANNER)
    told = post(client, f"/people/{Person.objects.get(user=anna).pk}/password").json()["password"]
    assert post(Client(), "/sign-in", {"name": "anna", "password": GOOD}).status_code == 400
    theirs = Client()
    assert post(theirs, "/sign-in", {"name": "anna", "password": told}).json()["must_change"] is True
    refused = theirs.get("/api/systems")
    assert refused.status_code == 403
    assert "Choose your own" in refused.json()["detail"]
    weak = post(theirs, "/password", {"present": told, "password": "12345678"})
    assert weak.json()["problems"][0]["path"] == "password"
    assert post(theirs, "/password", {"present": told, "password": "another good one"}).json()["must_change"] is False
    assert theirs.get("/api/systems").status_code == 200


def test_changing_ones_password_ends_ones_other_sessions(client: Client, planner: User) -> None:
    elsewhere = Client()
    elsewhere.force_login(planner)
    wrong = post(client, "/password", {"present": "not it", "password": GOOD})
    assert wrong.json()["problems"][0]["path"] == "present"
    assert post(client, "/password", {"present": "a good password", "password": GOOD}).status_code == 200
    assert client.get("/api/systems").status_code == 200
    assert elsewhere.get("/api/systems").status_code == 401


def test_a_job_does_only_what_its_owner_may_when_it_is_done(settings: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """Between asking and doing, a role may be taken away."""
    anna = people.create("anna", GOOD, Role.PLANNER)
    walk = journeys.drafts.create(TESTS, {"name": "Walk", "system": "Nowhere"})
    settings.JOBS_AT_ONCE = False
    monkeypatch.setattr("stonekettle.server.queueing.ask", lambda *_, **__: None)
    job = jobs.start(Actor.of(anna), "trial", {"journey": walk.pk, "user": 1})
    people.give_role(TESTS, Person.objects.get(user=anna), Role.READER)
    work.perform(job.pk)
    job.refresh_from_db()
    assert job.state == Job.State.REFUSED
    assert job.problem["status"] == 403
    assert Journey.objects.get(pk=walk.pk).tried_at is None


def test_a_reader_is_told_who_may() -> None:
    anna = people.create("anna", GOOD, Role.READER)
    with pytest.raises(Forbidden, match=r"Only planners and administrators may do this, and you are a reader"):
        Actor.of(anna).check(Role.PLANNER)
    with pytest.raises(Forbidden, match=r"Only administrators may do this"):
        Actor.of(anna).check(Role.ADMINISTRATOR)


def test_a_token_acts_as_its_owner_and_says_so_and_never_as_more_than_they_are(client: Client, planner: User) -> None:
    anna = people.create("anna", GOOD, Role.PLANNER)
    theirs = Client()
    theirs.force_login(anna)
    refused = post(theirs, "/tokens", {"name": "too much", "role": "administrator"})
    assert refused.json()["problems"][0]["path"] == "role"
    made = post(theirs, "/tokens", {"name": "nightly", "role": "planner", "days": 7}).json()
    assert made["text"] not in json.dumps(list(PersonalToken.objects.values()), default=str)
    assert post(theirs, "/tokens", {"name": "nightly"}).json()["problems"][0]["path"] == "name"
    bearer = {"Authorization": f"Bearer {made['text']}"}
    body = json.dumps({"source": json.dumps({"name": "Mill", "base_url": "http://127.0.0.1:1"})})
    script = Client(enforce_csrf_checks=True)
    assert script.post("/api/systems", body, content_type="application/json", headers=bearer).status_code == 201
    deed = Deed.objects.get(kind="system")
    assert (deed.who, deed.role, deed.address) == ("anna", "planner", "127.0.0.1, token nightly")
    assert theirs.get("/api/tokens").json()[0]["used_at"] is not None
    people.give_role(TESTS, Person.objects.get(user=anna), Role.READER)
    assert script.post("/api/systems", body, content_type="application/json", headers=bearer).status_code == 403
    assert script.get("/api/systems", headers=bearer).status_code == 200
    assert client.delete(f"/api/tokens/{made['id']}").status_code == 404
    assert theirs.delete(f"/api/tokens/{made['id']}").status_code == 204
    assert script.get("/api/systems", headers=bearer).status_code == 401
    assert script.post("/api/systems", body, content_type="application/json", headers=bearer).status_code == 401


def test_one_sees_where_one_is_signed_in_and_ends_the_other_sessions() -> None:
    people.create("anna", GOOD, Role.READER)
    here, there = Client(headers={"User-Agent": "here"}), Client(headers={"User-Agent": "there"})
    for client in (here, there):
        post(client, "/sign-in", {"name": "anna", "password": GOOD})
    told = here.get("/api/sessions").json()
    assert {(line["agent"], line["this"]) for line in told} == {("here", True), ("there", False)}
    assert [line["agent"] for line in here.delete("/api/sessions").json()] == ["here"]
    assert there.get("/api/systems").status_code == 401
    assert here.get("/api/systems").status_code == 200


@pytest.fixture
def pia(client: Client) -> Client:
    """A planner, signed in."""
    theirs = Client()
    theirs.force_login(people.create("pia", "a good password", Role.PLANNER))
    return theirs


def test_a_system_is_run_by_those_on_its_list(client: Client, pia: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("stonekettle.server.queueing.ask", lambda *_, **__: None)
    people.create("paul", None, Role.PLANNER)
    people.create("rita", None, Role.READER)
    system = systems.create(TESTS, {"name": "Trams", "base_url": "practice://gateway"})
    address = f"/api/systems/{system.pk}/runners"
    assert pia.get(address).json() == {"people": [], "candidates": ["paul", "pia"]}
    named = re.sub(r"system:\n(  .*\n)+", "system: Trams\n", QUICK)
    own = QUICK.replace("Quick look", "With its own words for the same place")
    made = [pia.post("/api/experiments", {"source": text}, JSON).json()["id"] for text in (named, own)]

    def starts() -> list[int]:
        told = [pia.post(f"/api/experiments/{experiment}/runs") for experiment in made]
        Run.objects.all().delete()
        return [answer.status_code for answer in told]

    assert client.put(address, {"people": ["paul"]}, JSON).json()["people"] == ["paul"]
    assert starts() == [403, 403]
    refused = pia.post(f"/api/experiments/{made[0]}/runs").json()
    assert refused["detail"] == "Only paul and administrators may run on Trams. Ask an administrator."
    assert client.put(address, {"people": ["paul", "pia"]}, JSON).status_code == 200
    assert starts()[0] == 201
    assert client.put(address, {"people": ["rita"]}, JSON).status_code == 422
    assert client.put(address, {"people": []}, JSON).json()["people"] == []
    assert starts()[0] == 201
    told = client.get(f"/api/deeds?kind=system&object={system.pk}").json()["deeds"]
    assert [deed["did"] for deed in told].count("changed who may run on") == 3


def test_nobody_asks_without_end(client: Client, pia: Client, settings: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    settings.REQUESTS_LIMITED = True
    monkeypatch.setattr(limits.ALL, "most", 5)
    monkeypatch.setattr("time.time", lambda: 1_000_003.0)
    cache.clear()
    assert [client.get("/api/systems").status_code for _ in range(6)] == [200] * 5 + [429]
    refused = client.get("/api/systems")
    assert refused["Retry-After"] == "7"
    assert refused.json()["detail"] == "That is more than one person asks. Go on in 7 s."
    assert pia.get("/api/systems").status_code == 200, "others are not kept waiting"
    monkeypatch.setattr("time.time", lambda: 1_000_010.0)
    assert client.get("/api/systems").status_code == 200


def test_many_names_are_not_tried_from_one_address(settings: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    settings.REQUESTS_LIMITED = True
    monkeypatch.setattr("stonekettle.server.access.api.WRONG_SIGN_IN_DELAY_S", 0)
    monkeypatch.setattr(limits.WAYS_IN, "most", 3)
    cache.clear()
    tried = Client(REMOTE_ADDR="192.0.2.7")
    told = [post(tried, "/sign-in", {"name": f"name{n}", "password": "wrong"}).status_code for n in range(5)]
    assert told == [400, 400, 400, 429, 429]
    elsewhere = Client(REMOTE_ADDR="192.0.2.8")
    assert post(elsewhere, "/sign-in", {"name": "name9", "password": "wrong"}).status_code == 400
    cache.clear()


def test_uploads_have_a_bound(client: Client, settings: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    settings.LARGEST_FILE = 10

    def upload(content: bytes) -> Any:
        file = SimpleUploadedFile("rows.csv", content)
        return client.post("/api/feed-files/look", {"file": file, "reading": "{}"})

    too_large = upload(b"a\n" * 6)
    assert too_large.status_code == 422
    assert too_large.json()["problems"][0]["path"] == "file"
    monkeypatch.setattr(jobs, "MOST_UPLOADS", 2)
    assert [upload(b"a\n1\n").status_code for _ in range(3)] == [200, 200, 409]
