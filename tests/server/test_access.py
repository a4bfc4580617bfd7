"""Signing in and out."""

from __future__ import annotations

from datetime import timedelta

import pytest
from axes.models import AccessAttempt, AccessFailureLog
from django.contrib.auth.models import User
from django.http import HttpResponse
from django.test import Client, RequestFactory
from django.utils import timezone

from stonekettle.server.access import people, waiting
from stonekettle.server.access.roles import Role


def test_signing_in_and_out(planner: User) -> None:
    client = Client()
    assert client.get("/api/me").json()["name"] is None
    body = {"name": "planner", "password": "a good password"}
    entered = {"name": "planner", "role": "administrator", "must_change": False, "outside": None}
    assert client.post("/api/sign-in", body, content_type="application/json").json() == entered
    assert client.get("/api/me").json() == entered
    client.post("/api/sign-out", content_type="application/json")
    assert client.get("/api/me").json()["name"] is None


def test_a_wrong_password_is_refused_without_saying_which_part(planner: User) -> None:
    body = {"name": "planner", "password": "wrong"}
    answer = Client().post("/api/sign-in", body, content_type="application/json")
    assert answer.status_code == 400
    assert answer["Content-Type"] == "application/problem+json"
    assert "name or the password" in answer.json()["detail"]


def test_changes_need_the_csrf_token(planner: User) -> None:
    client = Client(enforce_csrf_checks=True)
    client.force_login(planner)
    assert client.post("/api/sign-out", content_type="application/json").status_code == 403
    body = {"name": "planner", "password": "a good password"}
    assert (
        Client(enforce_csrf_checks=True).post("/api/sign-in", body, content_type="application/json").status_code == 403
    )
    client.get("/api/me")
    token = client.cookies["kettle_csrf"].value
    assert (
        client.post("/api/sign-out", content_type="application/json", headers={"X-CSRFToken": token}).status_code == 200
    )


def test_the_description_of_the_api_is_served(planner: User) -> None:
    client = Client()
    client.force_login(planner)
    assert client.get("/api/openapi.json").json()["info"]["title"] == "Stone Kettle"


def test_who_keeps_giving_a_wrong_password_waits_longer_each_time_and_nobody_else_does(
    planner: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("stonekettle.server.access.api.WRONG_SIGN_IN_DELAY_S", 0)
    people.create("anna", "a good password", Role.READER)

    def sign_in(name: str, password: str, address: str = "10.0.0.1") -> HttpResponse:
        body = {"name": name, "password": password}
        return Client(REMOTE_ADDR=address).post("/api/sign-in", body, content_type="application/json")

    assert [sign_in("planner", "wrong").status_code for _ in range(5)] == [400, 400, 400, 400, 429]
    refused = sign_in("planner", "a good password")
    assert refused.status_code == 429
    assert "Try again 1 min after the last" in refused.json()["detail"]  # type: ignore[attr-defined]
    # Neither another person there, nor the same one elsewhere.
    assert sign_in("anna", "a good password").status_code == 200
    assert sign_in("planner", "a good password", "10.0.0.2").status_code == 200
    AccessAttempt.objects.update(attempt_time=timezone.now() - timedelta(seconds=61))
    assert sign_in("planner", "a good password").status_code == 200


def test_waits_grow_with_every_five_up_to_an_hour(rf: RequestFactory, db: None) -> None:
    request = rf.post("/api/sign-in", REMOTE_ADDR="10.0.0.1")
    request.META[waiting.NAME] = "planner"
    waits = []
    for _ in range(22):
        AccessFailureLog.objects.create(username="planner", ip_address="10.0.0.1", user_agent="", path_info="")
        waits.append(waiting.cool_off(request).total_seconds() / 60)
    assert waits == [1] * 9 + [4] * 5 + [16] * 5 + [60] * 3
    AccessFailureLog.objects.update(attempt_time=timezone.now() - timedelta(days=2))
    assert waiting.cool_off(request) == waiting.FIRST
