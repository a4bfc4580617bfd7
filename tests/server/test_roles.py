"""Who may what: every address of the API against every kind of caller."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.db import transaction
from django.test import Client
from django.test.client import encode_multipart
from django.utils import timezone

from stonekettle.server.access import people, sessions, tokens
from stonekettle.server.access.models import Person, PersonalToken
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.access.sessions import NOT_BY_TOKEN
from stonekettle.server.api import api
from stonekettle.server.systems import rules as systems
from stonekettle.server.systems.models import System
from tests.server.acting import TESTS
from tests.server.conftest import QUICK, TERMS

FORM = "multipart/form-data; boundary=part"
ANYBODY = "anybody"
"""Whoever knows the address: signing in, an invitation's link."""
TOKEN = "token"
"""Whoever has the system's own token."""
FILE_USE = {"component": "x", "time_column": "t", "columns": [{"column": "a", "metric": "a"}]}
SOON = (timezone.now() + timedelta(days=2)).isoformat()
R, P, A = Role.READER, Role.PLANNER, Role.ADMINISTRATOR
TABLE: dict[str, tuple[str, Any]] = {
    "GET /me": (ANYBODY, None),
    "POST /sign-in": (ANYBODY, {"name": "x", "password": "y"}),
    "GET /welcome/{token}": (ANYBODY, None),
    "POST /welcome/{token}": (ANYBODY, {"name": "newcomer", "password": "a good password"}),
    "POST /systems/{system_id}/v1/metrics": (TOKEN, {}),
    "POST /systems/{system_id}/v1/traces": (TOKEN, {}),
    "GET /openid": (R, None),
    "POST /openid": (R, None),
    "DELETE /openid": (R, None),
    "GET /openid/begin": (ANYBODY, None),
    "GET /openid/return": (ANYBODY, None),
    "POST /sign-out": (R, None),
    "POST /password": (R, {"present": "a good password", "password": "another good one"}),
    "GET /people": (A, None),
    "PUT /people/{person_id}/role": (A, {"role": "planner"}),
    "POST /people/{person_id}/lock": (A, None),
    "POST /people/{person_id}/unlock": (A, None),
    "POST /people/{person_id}/password": (A, None),
    "GET /invitations": (A, None),
    "POST /invitations": (A, {"note": "anna", "role": "reader"}),
    "DELETE /invitations/{invitation_id}": (A, None),
    "GET /sessions": (R, None),
    "DELETE /sessions": (R, None),
    "GET /tokens": (R, None),
    "POST /tokens": (R, {"name": "ci"}),
    "DELETE /tokens/{token_id}": (R, None),
    "GET /halt": (R, None),
    "POST /halt": (P, {"why": "smoke"}),
    "DELETE /halt": (P, None),
    "GET /deeds": (R, None),
    "GET /deed-choices": (R, None),
    "GET /deeds.csv": (R, None),
    "GET /systems": (R, None),
    "POST /systems": (P, {}),
    "GET /systems/{system_id}": (R, None),
    "PUT /systems/{system_id}": (P, {"document": {"name": "x", "base_url": "http://127.0.0.1:1"}, "base": 1}),
    "POST /systems/{system_id}/undo": (P, {}),
    "POST /systems/{system_id}/redo": (P, {}),
    "POST /systems/{system_id}/duplicate": (P, None),
    "POST /systems/{system_id}/archive": (P, {"archived": True}),
    "POST /systems/{system_id}/token": (P, None),
    "GET /systems/{system_id}/system.yaml": (R, None),
    "GET /systems/{system_id}/meters": (R, None),
    "GET /systems/{system_id}/metrics": (R, None),
    "PUT /systems/{system_id}/pins": (P, {"pins": []}),
    "GET /systems/{system_id}/runners": (R, None),
    "PUT /systems/{system_id}/runners": (A, {"people": []}),
    "GET /systems/{system_id}/keeping": (R, None),
    "PUT /systems/{system_id}/keeping": (A, {"requests_days": 7}),
    "GET /systems/{system_id}/targets": (R, None),
    "GET /experiments/{experiment_id}/targets": (R, None),
    "GET /targets": (R, None),
    "POST /targets/entries": (A, {"terms": {**TERMS, "users": 5, "reason": "ours"}, "ends_at": SOON}),
    "POST /targets/claims": (P, {"terms": TERMS}),
    "PUT /targets/{target_id}": (P, {"terms": TERMS}),
    "POST /targets/{target_id}/proof": (P, None),
    "DELETE /targets/{target_id}": (P, None),
    "POST /targets/{target_id}/restore": (P, None),
    "GET /now": (R, None),
    "GET /runs/{run_id}/distribution": (R, None),
    "GET /runs/{run_id}/moving": (R, None),
    "GET /runs/{run_id}/errors": (R, None),
    "GET /runs/{run_id}/requests": (R, None),
    "GET /runs/{run_id}/curves": (R, None),
    "GET /runs/{run_id}/how/{kind}": (R, None),
    "GET /runs/{run_id}/steps/{step}": (R, None),
    "GET /runs/{run_id}/levels.parquet": (R, None),
    "GET /runs/{run_id}/traces.jsonl": (R, None),
    "GET /runs/{run_id}/whole": (R, None),
    "GET /runs/{run_id}/suspects": (R, None),
    "GET /runs/{run_id}/health": (R, None),
    "GET /runs/{run_id}/cost": (R, None),
    "GET /runs/{run_id}/more-users": (R, None),
    "POST /runs/{run_id}/set-aside": (P, {"from_s": 0, "until_s": 1, "why": "x"}),
    "DELETE /runs/{run_id}/set-aside/{set_aside_id}": (P, None),
    "GET /runs/{run_id}/metrics.parquet": (R, None),
    "GET /runs/{run_id}/sql": (R, None),
    "POST /runs/{run_id}/sql": (R, {"statement": "SELECT 1"}),
    "POST /runs/{run_id}/sql.csv": (R, {"statement": "SELECT 1"}),
    "GET /runs/{run_id}/visits/{user}/{visit}": (R, None),
    "GET /feeds": (R, None),
    "POST /feeds": (P, {}),
    "POST /feed-files/look": (P, {"reading": "{}"}),
    "POST /feed-files": (P, {"use": '{"name": "x", "columns": ["a"]}'}),
    "POST /feeds/{feed_id}/file": (P, {"use": '{"name": "x", "columns": ["a"]}'}),
    "GET /feeds/{feed_id}": (R, None),
    "PUT /feeds/{feed_id}": (P, {"document": {"name": "x"}, "base": 1}),
    "POST /feeds/{feed_id}/undo": (P, {}),
    "POST /feeds/{feed_id}/redo": (P, {}),
    "POST /feeds/{feed_id}/duplicate": (P, None),
    "POST /feeds/{feed_id}/archive": (P, {"archived": True}),
    "GET /feeds/{feed_id}/rows": (R, None),
    "GET /feeds/{feed_id}/rows.csv": (R, None),
    "GET /runs/{run_id}/changes": (R, None),
    "GET /runs/{run_id}/changes/{change_id}": (R, None),
    "POST /runs/{run_id}/changes": (P, {"name": "Set instances"}),
    "GET /capacity": (R, None),
    "POST /capacity": (P, {}),
    "GET /capacity/{plan_id}": (R, None),
    "PUT /capacity/{plan_id}": (P, {"document": {"name": "x"}, "base": 1}),
    "POST /capacity/{plan_id}/undo": (P, {}),
    "POST /capacity/{plan_id}/redo": (P, {}),
    "POST /capacity/{plan_id}/duplicate": (P, None),
    "POST /capacity/{plan_id}/archive": (P, {"archived": True}),
    "GET /capacity/{plan_id}/answer": (R, None),
    "GET /capacity/{plan_id}/otherwise": (R, None),
    "GET /capacity/{plan_id}/trials": (R, None),
    "POST /capacity/{plan_id}/trials": (P, None),
    "GET /capacity/{plan_id}/plan.yaml": (R, None),
    "GET /journeys": (R, None),
    "POST /journeys": (P, {}),
    "POST /journey-files/look": (P, {}),
    "POST /journey-files": (P, {"use": '{"name": "x", "accept": []}'}),
    "GET /journeys/{journey_id}": (R, None),
    "PUT /journeys/{journey_id}": (P, {"document": {"name": "x"}, "base": 1}),
    "POST /journeys/{journey_id}/undo": (P, {}),
    "POST /journeys/{journey_id}/redo": (P, {}),
    "POST /journeys/{journey_id}/duplicate": (P, None),
    "POST /journeys/{journey_id}/archive": (P, {"archived": True}),
    "POST /journeys/{journey_id}/trial": (P, {}),
    "GET /journeys/{journey_id}/journey.yaml": (R, None),
    "GET /experiments": (R, None),
    "POST /experiments": (P, {"source": QUICK}),
    "POST /plans/check": (R, {"source": QUICK}),
    "GET /experiments/{experiment_id}": (R, None),
    "PUT /experiments/{experiment_id}": (P, {"document": {"source": QUICK}, "base": 1}),
    "PUT /experiments/{experiment_id}/peak": (P, {"amount": 400}),
    "POST /experiments/{experiment_id}/undo": (P, {}),
    "POST /experiments/{experiment_id}/redo": (P, {}),
    "POST /experiments/{experiment_id}/duplicate": (P, None),
    "POST /experiments/{experiment_id}/archive": (P, {"archived": True}),
    "GET /experiments/{experiment_id}/experiment.yaml": (R, None),
    "POST /experiments/{experiment_id}/restore": (P, {"revision": 1}),
    "GET /experiments/{experiment_id}/readiness": (R, None),
    "POST /experiments/{experiment_id}/runs": (P, None),
    "POST /experiments/{experiment_id}/rehearsals": (P, None),
    "POST /runs/{run_id}/longer": (P, None),
    "GET /runs/{run_id}/against/{other_id}": (R, None),
    "GET /experiments/{experiment_id}/history": (R, None),
    "GET /systems/{system_id}/history": (R, None),
    "GET /experiments/{experiment_id}/baselines": (R, None),
    "POST /runs/{run_id}/baseline": (P, None),
    "DELETE /runs/{run_id}/baseline": (P, None),
    "PUT /runs/{run_id}/remark": (P, {"remark": "after the move"}),
    "PUT /runs/{run_id}/left-out": (P, {"why": ""}),
    "GET /experiments/{experiment_id}/schedules": (R, None),
    "POST /experiments/{experiment_id}/schedules": (P, {"at": SOON[:16], "zone": "UTC"}),
    "GET /schedules": (R, None),
    "DELETE /schedules/{schedule_id}": (P, None),
    "POST /experiments/{experiment_id}/series": (P, None),
    "GET /experiments/{experiment_id}/series": (R, None),
    "GET /series/{series_id}": (R, None),
    "GET /series/{series_id}/findings": (R, None),
    "GET /series/{series_id}/scaling": (R, None),
    "POST /series/{series_id}/stop": (P, None),
    "GET /experiments/{experiment_id}/forecast": (R, None),
    "GET /runs": (R, None),
    "GET /runs/{run_id}": (R, None),
    "DELETE /runs/{run_id}": (A, None),
    "POST /runs/{run_id}/restore": (A, None),
    "POST /runs/{run_id}/keep": (P, {"kept": True}),
    "GET /runs/{run_id}/plate": (R, None),
    "GET /runs/{run_id}/steps": (R, None),
    "GET /runs/{run_id}/steps.csv": (R, None),
    "GET /runs/{run_id}/steps.xlsx": (R, None),
    "GET /runs/{run_id}/lives": (R, None),
    "GET /runs/{run_id}/lives/{user}": (R, None),
    "POST /runs/{run_id}/stop": (P, None),
    "POST /runs/{run_id}/wishes": (P, {"verb": "hold"}),
    "GET /runs/{run_id}/wishes": (R, None),
    "POST /runs/{run_id}/prospect": (R, {"verb": "hold"}),
    "POST /runs/{run_id}/markers": (P, {"text": "deployed"}),
    "PUT /runs/{run_id}/markers/{marker_id}": (P, {"text": "deployed"}),
    "DELETE /runs/{run_id}/markers/{marker_id}": (P, None),
    "POST /systems/{system_id}/markers": (P, {"text": "deployed"}),
    "GET /runs/{run_id}/result.json": (R, None),
    "GET /runs/{run_id}/facts.csv": (R, None),
    "POST /runs/{run_id}/exports": (R, {"what": "seconds.csv"}),
    "GET /runs/{run_id}/seconds.csv": (R, None),
    "GET /runs/{run_id}/requests.parquet": (R, None),
    "GET /runs/{run_id}/kept.jsonl": (R, None),
    "POST /runs/{run_id}/files/look": (P, {}),
    "POST /runs/{run_id}/files": (P, {"use": json.dumps(FILE_USE)}),
    "DELETE /runs/{run_id}/files/{file_id}": (P, None),
    "GET /jobs/{job_id}": (R, None),
    "DELETE /jobs/{job_id}": (R, None),
}  # fmt: skip
"""The least that may use an address, and a body it takes. Jobs are everybody's own."""


@pytest.fixture(autouse=True)
def no_work(monkeypatch: pytest.MonkeyPatch, settings: Any) -> None:
    """Jobs and runs are only asked for."""
    settings.JOBS_AT_ONCE = False
    monkeypatch.setattr("stonekettle.server.queueing.ask", lambda *_, **__: None)
    monkeypatch.setattr("stonekettle.server.access.api.WRONG_SIGN_IN_DELAY_S", 0)


def answers(client: Client, ids: dict[str, int | str]) -> Iterator[tuple[str, str, int]]:
    """Every address with the least that may use it, and how it answers; nothing stays changed."""
    user_id = client.session.get("_auth_user_id")
    for row, (least, body) in TABLE.items():
        method, _, path = row.partition(" ")
        address = "/api" + re.sub(r"{(\w+)}", lambda match: str(ids[match[1]]), path)
        with_file = "-files" in path or path.endswith(("/file", "/files", "/files/look"))
        content: Any = json.dumps(body) if body is not None else ""
        kind = "application/json"
        if with_file and method == "POST":
            file = type("File", (), {"read": lambda self: b"a\n1\n", "name": "a.csv"})()
            content, kind = encode_multipart("part", {**(body or {}), "file": file}), FORM
        with transaction.atomic():
            yield row, least, client.generic(method, address, content, content_type=kind).status_code
            transaction.set_rollback(True)
        if user_id is not None:
            client.force_login(User.objects.get(pk=user_id))


def test_the_table_holds_every_address_of_the_api() -> None:
    described = {
        f"{method.upper()} {path.removeprefix('/api')}"
        for path, methods in api.get_openapi_schema()["paths"].items()
        for method in methods
    }
    assert described == set(TABLE)


@pytest.mark.parametrize("role", list(Role))
def test_each_role_may_what_the_table_says_and_nothing_more(ids: dict[str, int | str], role: Role) -> None:
    client = Client(raise_request_exception=False)
    client.force_login(people.create("caller", "a good password", role))
    wrong = []
    for row, least, status in answers(client, ids):
        if least in (ANYBODY, TOKEN):
            expected = status < 500 and (least == ANYBODY or status == 401)
        elif role.rank >= Role(least).rank:
            expected = status not in (401, 403) and status < 500
        else:
            expected = status == 403
        if not expected:
            wrong.append((row, status))
    assert wrong == []


@pytest.mark.parametrize("caller", ["a stranger", "an ended session", "locked out", "a token past its time"])
def test_who_is_not_signed_in_reaches_nothing_but_the_door(ids: dict[str, int | str], caller: str) -> None:
    client = Client(raise_request_exception=False)
    if caller == "a token past its time":
        owner = Actor.of(people.create("caller", None, Role.ADMINISTRATOR))
        token, text = tokens.make(owner, "old", Role.ADMINISTRATOR, 1)
        PersonalToken.objects.filter(pk=token.pk).update(expires_at=timezone.now())
        client.defaults["HTTP_AUTHORIZATION"] = f"Bearer {text}"
    elif caller != "a stranger":
        user = people.create("caller", None, Role.ADMINISTRATOR)
        client.force_login(user)
        if caller == "an ended session":
            sessions.end_all(user)
        else:
            people.lock_out(TESTS, Person.objects.get(user=user))
    found = {row: status for row, _, status in answers_of_nobody(client, ids)}
    assert {row for row, status in found.items() if status != 401} == {
        r for r, (who, _) in TABLE.items() if who == ANYBODY
    }


@pytest.mark.parametrize("role", list(Role))
def test_a_token_may_what_its_role_may_but_not_decide_who_comes_in(ids: dict[str, int | str], role: Role) -> None:
    owner = Actor.of(people.create("caller", "a good password", Role.ADMINISTRATOR))
    client = Client(raise_request_exception=False)
    client.defaults["HTTP_AUTHORIZATION"] = f"Bearer {tokens.make(owner, 'ci', role, 1)[1]}"
    wrong = []
    for row, least, status in answers_of_nobody(client, ids):
        path = row.partition(" ")[2]
        if least in (ANYBODY, TOKEN):
            continue
        may = role.rank >= Role(least).rank and not f"/api{path}".startswith(NOT_BY_TOKEN)
        if (status not in (401, 403) if may else status == 403) is False or status >= 500:
            wrong.append((row, status))
    assert wrong == []


def answers_of_nobody(client: Client, ids: dict[str, int | str]) -> Iterator[tuple[str, str, int]]:
    cookies = client.cookies.copy()
    for row, least, status in answers(client, ids):
        client.cookies = cookies.copy()
        yield row, least, status


def test_who_has_to_choose_a_password_can_do_that_and_leave(ids: dict[str, int | str]) -> None:
    client = Client(raise_request_exception=False)
    user = people.create("caller", "a good password", Role.ADMINISTRATOR)
    Person.objects.filter(user=user).update(must_change=True)
    client.force_login(user)
    open_ones = {row for row, least, status in answers(client, ids) if status not in (401, 403)}
    door = {row for row, (least, _) in TABLE.items() if least == ANYBODY}
    assert open_ones == door | {"POST /password", "POST /sign-out"}


def test_a_systems_token_pushes_metrics_and_opens_nothing_else(ids: dict[str, int | str]) -> None:
    system = System.objects.get(pk=ids["system_id"])
    bearer = {"Authorization": f"Bearer {systems.new_token(TESTS, system)}"}
    push = f"/api/systems/{system.pk}/v1/metrics"
    told = Client().post(push, {}, content_type="application/json", headers=bearer)
    assert told.status_code == 200
    assert Client().get("/api/systems", headers=bearer).status_code == 401
