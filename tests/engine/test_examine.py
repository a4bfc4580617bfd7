"""Checks and kept values, on responses of all habits."""

from __future__ import annotations

import json
from typing import Any

import pytest

from stonekettle.engine.examine import Examiner, Response
from stonekettle.plan.response_text import form_fields
from stonekettle.plan.step import Step

PAGE = """<form><input type="hidden" name="form_token" value="a&amp;b=="><input name=zone value='A'>
<textarea name="note">two
lines</textarea></form>"""
TICKET = {"ticket": {"number": "T-17", "price": 4.5, "stops": ["Quay Gate", None]}, "ok": True}


def response(body: str | dict[str, Any] = "", status: int = 200, took_s: float = 0.1, **headers: str) -> Response:
    text = body if isinstance(body, str) else json.dumps(body)
    lines = [b"HTTP/1.1 200 OK\r\n", *(f"{k.replace('_', '-')}: {v}\r\n".encode("latin-1") for k, v in headers.items())]
    return Response(status, lines, text.encode(), len(text), took_s)


def examiner(**fields: Any) -> Examiner:
    return Examiner(Step.model_validate({"name": "s", "request": "GET /", **fields}))


@pytest.mark.parametrize(
    ("check", "given", "passes"),
    [
        ({"contains": "form_token"}, response(PAGE), True),
        ({"contains": "gone"}, response(PAGE), False),
        ({"lacks": "wrong password"}, response(PAGE), True),
        ({"lacks": "zone"}, response(PAGE), False),
        ({"matches": r"T-\d+"}, response(TICKET), True),
        ({"matches": r"^T-"}, response(TICKET), False),
        ({"json": "$.ticket.number", "equals": "T-17"}, response(TICKET), True),
        ({"json": "$.ticket.price", "equals": 4.5}, response(TICKET), True),
        ({"json": "$.ok", "equals": True}, response(TICKET), True),
        ({"json": "$.ticket.stops[0]", "equals": "Mill Lane"}, response(TICKET), False),
        ({"json": "$.ticket['number']", "exists": True}, response(TICKET), True),
        ({"json": "$.ticket.refund", "exists": False}, response(TICKET), True),
        ({"json": "$.ticket", "exists": True}, response("<html>"), False),
        ({"header": "X-Zone", "equals": "A"}, response("", X_Zone="A"), True),
        ({"header": "x-zone", "exists": True}, response(""), False),
        ({"at_least_bytes": 5}, response("four"), False),
        ({"at_most_bytes": 5}, response("four"), True),
        ({"within": "100 ms"}, response("", took_s=0.2), False),
    ],
)
def test_checks_pass_and_fail(check: dict[str, Any], given: Response, passes: bool) -> None:
    made = examiner(checks=[check])
    (outcome,) = made.outcomes(given)
    assert outcome.passed is passes
    assert outcome.text
    assert made.examine(given, {}) == (None if passes else "check")


@pytest.mark.parametrize(
    ("keep", "given", "value"),
    [
        ({"json": "$.ticket.number"}, response(TICKET), "T-17"),
        ({"json": "$.ticket.price"}, response(TICKET), "4.5"),
        ({"json": "$.ticket.stops[-1]"}, response(TICKET), "null"),
        ({"regex": r"T-(\d+)"}, response(TICKET), "17"),
        ({"header": "Location"}, response("", Location="/account"), "/account"),
        ({"cookie": "session"}, response("", Set_Cookie="session=abc; Path=/; HttpOnly"), "abc"),
        ({"field": "form_token"}, response(PAGE), "a&b=="),
        ({"field": "zone"}, response(PAGE), "A"),
        ({"field": "note"}, response(PAGE), "two\nlines"),
        ({"json": "$.ticket.refund"}, response(TICKET), None),
        ({"field": "gone"}, response(PAGE), None),
        ({"cookie": "session"}, response(""), None),
    ],
)
def test_values_are_kept_or_missed(keep: dict[str, Any], given: Response, value: str | None) -> None:
    made = examiner(keep=[{"name": "it", **keep}])
    values: dict[str, str] = {}
    assert made.examine(given, values) == (None if value is not None else "value not found")
    assert values.get("it") == value
    assert made.kept(given) == {"it": value}
    assert made.places["it"]


def test_only_what_is_looked_at_is_asked_for() -> None:
    assert not examiner().wanted
    assert not examiner(checks=[{"within": "1 s"}]).needs_body
    assert examiner(keep=[{"name": "t", "field": "t"}]).needs_body
    assert not examiner(keep=[{"name": "t", "header": "T"}]).needs_body


def test_bodies_are_read_in_their_own_encoding() -> None:
    made = Response(200, [b"Content-Type: text/html; charset=latin-1\r\n"], "Müllerstraße".encode("latin-1"), 12, 0.1)
    assert examiner(checks=[{"contains": "Müllerstraße"}]).outcomes(made)[0].passed


def test_fields_of_broken_pages_are_found_as_far_as_they_go() -> None:
    assert form_fields("<input name='a' value=1><input value=x><INPUT NAME=b") == [("a", "1")]
