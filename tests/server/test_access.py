"""Signing in, and that everything else needs it."""

from __future__ import annotations

import pytest
from django.contrib.auth.models import User
from django.test import Client

from stonekettle.server.api import api

OPEN = {"/me", "/sign-in"}


def test_signing_in_and_out(planner: User) -> None:
    client = Client()
    assert client.get("/api/me").json() == {"name": None}
    body = {"name": "planner", "password": "a good password"}
    assert client.post("/api/sign-in", body, content_type="application/json").json() == {"name": "planner"}
    assert client.get("/api/me").json() == {"name": "planner"}
    client.post("/api/sign-out", content_type="application/json")
    assert client.get("/api/me").json() == {"name": None}


def test_a_wrong_password_is_refused_without_saying_which_part(planner: User) -> None:
    body = {"name": "planner", "password": "wrong"}
    answer = Client().post("/api/sign-in", body, content_type="application/json")
    assert answer.status_code == 400
    assert answer["Content-Type"] == "application/problem+json"
    assert "name or the password" in answer.json()["detail"]


@pytest.mark.django_db
def test_every_other_address_needs_a_session() -> None:
    client = Client()
    checked = 0
    for path, methods in api.get_openapi_schema()["paths"].items():
        short = path.removeprefix("/api")
        if short in OPEN:
            continue
        for method in methods:
            address = path.format(experiment_id=1, run_id=1, system_id=1, file_id=1, journey_id=1, feed_id=1, job_id=1)
            answer = client.generic(method.upper(), address, "{}", content_type="application/json")
            assert answer.status_code == 401, (method, address)
            checked += 1
    assert checked >= 14
    assert client.get("/api/openapi.json").status_code == 401


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
