"""Who did what: one history that only grows."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.db import DatabaseError, transaction
from django.test import Client

from stonekettle.server.access import people
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.drafts import DraftBody
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.history import differences
from stonekettle.server.history.models import Deed
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.journeys.models import Journey
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import rules as runs
from stonekettle.server.runs.models import Run
from stonekettle.server.systems import rules as systems
from tests.server.acting import TESTS
from tests.server.conftest import QUICK

pytestmark = pytest.mark.django_db
HERE = {"name": "Mill", "base_url": "http://127.0.0.1:1"}


def deeds(client: Client, **only: Any) -> list[dict[str, Any]]:
    return list(client.get("/api/deeds", only).json()["deeds"])


def test_a_change_tells_who_did_what_from_where_and_what_was_before(client: Client) -> None:
    client.post("/api/systems", json.dumps({"source": json.dumps(HERE)}), content_type="application/json")
    (system,) = client.get("/api/systems").json()
    held = client.get(f"/api/systems/{system['id']}").json()
    changed = {"document": {**held["document"], "currency": "CHF"}, "base": held["revision"]}
    client.put(f"/api/systems/{system['id']}", json.dumps(changed), content_type="application/json")
    last, first = deeds(client, kind="system", object=system["id"])
    assert (first["who"], first["did"], first["object_name"]) == ("planner", "created", "Mill")
    assert (last["did"], last["role"], last["address"]) == ("changed", "administrator", "127.0.0.1")
    assert last["changes"] == [{"path": "currency", "before": held["document"].get("currency"), "after": "CHF"}]


def test_secrets_are_told_to_have_changed_and_never_shown(client: Client) -> None:
    def document(password: str) -> dict[str, Any]:
        session = {"form": {"user": "x", "password": password}, "request": "POST /in"}
        return {"name": "Enter", "steps": [{"name": "In", **session}]}

    journey = journeys.drafts.create(TESTS, document("first-secret"))
    journeys.drafts.save(TESTS, journey, document("second-secret"))
    (last, _) = deeds(client, kind="journey", object=journey.pk)
    assert {"path": "secrets", "before": None, "after": "other ones"} in last["changes"]
    assert "first-secret" not in json.dumps(list(Deed.objects.values()), default=str)
    assert "second-secret" not in json.dumps(list(Deed.objects.values()), default=str)


def test_what_is_typed_in_one_go_is_one_line_that_tells_the_whole(client: Client) -> None:
    journey = journeys.drafts.create(TESTS, {"name": "Walk", "notes": "a"})
    base = journey.current.pk
    for i, notes in enumerate(("ab", "abc", "abcd")):
        edit = DraftBody(document={}, base=base, editor="page", continues=i > 0)
        journey = journeys.drafts.save(TESTS, Journey.objects.get(), {"name": "Walk", "notes": notes}, edit)
        base = journey.current.pk
    assert Deed.objects.filter(did="changed").count() == 3
    lines = [deed for deed in deeds(client, kind="journey") if deed["did"] == "changed"]
    assert [line["changes"] for line in lines] == [[{"path": "notes", "before": "a", "after": "abcd"}]]


def test_what_changes_nothing_or_is_refused_is_not_told(client: Client, planner: User) -> None:
    system = systems.create(TESTS, HERE)
    count = Deed.objects.count()
    systems.drafts.save(TESTS, system, HERE)
    with pytest.raises(Conflict):
        systems.drafts.undo(TESTS, system)
    systems.drafts.bring_back(TESTS, system)
    assert Deed.objects.count() == count


def test_runs_tell_who_started_steered_and_stopped_them(planner: User, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("stonekettle.server.queueing.ask", lambda *_, **__: None)
    run = runs.start(Actor.of(planner), experiments.create(TESTS, QUICK))
    runs.request_stop(Actor.itself("./kettle stop"), run)
    runs.delete(Actor.of(planner), Run.objects.get())
    runs.restore(Actor.of(planner), Run.objects.get())
    told = Deed.objects.filter(kind="run").order_by("pk").values_list("who", "did")
    assert list(told) == [
        ("planner", "started"),
        ("./kettle stop", "stopped"),
        ("planner", "deleted"),
        ("planner", "had back"),
    ]


def test_the_database_refuses_to_change_or_delete_what_was_told() -> None:
    systems.create(TESTS, HERE)
    for change in (
        lambda: Deed.objects.update(who="nobody"),
        lambda: Deed.objects.all().delete(),
        lambda: Deed.objects.filter(who="nobody").update(note="x"),
    ):
        with transaction.atomic():
            try:
                change()
            except DatabaseError as error:
                assert "only grows" in str(error)  # noqa: PT017
                transaction.set_rollback(True)
    assert Deed.objects.get().who == "the tests"


def test_sign_ins_and_exports_are_told_and_refused_sign_ins_too(
    client: Client, make_run: Callable[..., Run], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("stonekettle.server.access.api.WRONG_SIGN_IN_DELAY_S", 0)
    run = make_run(3, state="finished", begun_at=1.0, result={"a": 1})
    assert client.get(f"/api/runs/{run.pk}/result.json").status_code == 200
    body = {"name": "planner", "password": "not it"}
    Client().post("/api/sign-in", json.dumps(body), content_type="application/json")
    (refused, exported, *_) = deeds(client)
    assert (refused["who"], refused["did"], refused["kind"]) == ("planner", "was refused at", "sign-in")
    assert (exported["did"], exported["note"]) == ("exported", "result.json")
    assert "not it" not in json.dumps(list(Deed.objects.values()), default=str)


def test_one_can_choose_by_person_kind_word_and_time_and_page_through(client: Client) -> None:
    for i in range(60):
        systems.create(Actor.itself("anna" if i % 2 else "berta"), {**HERE, "name": f"Mill {i}"})
    page = client.get("/api/deeds", {"kind": "system"}).json()
    assert (len(page["deeds"]), page["more"]) == (50, True)
    choices = client.get("/api/deed-choices").json()
    assert {"anna", "berta"} <= set(choices["people"])
    assert "system" in choices["kinds"]
    older = client.get("/api/deeds", {"kind": "system", "before": page["deeds"][-1]["id"]}).json()
    assert (len(older["deeds"]), older["more"]) == (10, False)
    assert {deed["who"] for deed in deeds(client, who="anna")} == {"anna"}
    assert [deed["object_name"] for deed in deeds(client, text="ill 59")] == ["Mill 59"]
    assert deeds(client, until="2020-01-01T00:00:00Z") == []


def test_the_file_holds_everything_and_no_formula(client: Client) -> None:
    systems.create(TESTS, {**HERE, "name": "=cmd|' /C calc'!A0"})
    answer = client.get("/api/deeds.csv", {"kind": "system"})
    text = b"".join(answer.streaming_content).decode()  # type: ignore[attr-defined]
    (row,) = csv.DictReader(io.StringIO(text))
    assert row["object_name"] == "'=cmd|' /C calc'!A0"
    assert (row["who"], row["did"]) == ("the tests", "created")


def test_differences_are_told_by_path_and_shortened() -> None:
    before = {"a": {"b": [1, 2, {"c": 3}]}, "gone": True, "same": "x"}
    after = {"a": {"b": [1, 5, {"c": 4}, "new"]}, "same": "x", "long": "y" * 1000}
    told = {found["path"]: (found["before"], found["after"]) for found in differences.between(before, after)}
    assert told.pop("long")[1] == "y" * 400 + " …"
    assert told == {"a.b[2]": (2, 5), "a.b[3].c": (3, 4), "a.b[4]": (None, "new"), "gone": (True, None)}
    assert len(differences.between({}, {str(i): i for i in range(1000)})) == differences.MOST


def test_who_was_here_before_there_were_roles_may_everything() -> None:
    from importlib import import_module

    from django.apps import apps

    user = User.objects.create_user("old")
    people.create("reader", None, Role.READER)
    import_module("stonekettle.server.access.migrations.0002_administrators").appoint(apps, None)
    assert Actor.of(User.objects.get(pk=user.pk)).role is Role.ADMINISTRATOR
    assert Actor.of(User.objects.get(username="reader")).role is Role.READER
