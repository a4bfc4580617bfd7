"""Signing in and out."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.test import Client


def test_signing_in_and_out(planner: User) -> None:
    client = Client()
    assert client.get("/api/me").json()["name"] is None
    body = {"name": "planner", "password": "a good password"}
    entered = {"name": "planner", "role": "administrator", "must_change": False}
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
