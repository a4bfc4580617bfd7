"""Malformed requests, made from the API's own description: clear refusals, never a fault, never a page."""

from __future__ import annotations

import json
import logging
import re
from collections.abc import Iterator
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client

from stonekettle.plan import document
from stonekettle.server.api import api
from tests.edits import edits
from tests.server.conftest import example

pytestmark = pytest.mark.usefixtures("quiet")
SCHEMA = api.get_openapi_schema()
BODIES = {
    "NUL": '"a\\u0000b"',
    "half a character": '"\\ud800"',
    "infinity": "Infinity",
    "not a number": "NaN",
    "many digits": "9" * 5_000,
    "a large number": "1e400",
    "deep": "[" * 500 + "]" * 500,
    "very deep": "[" * 100_000 + "]" * 100_000,
    "a list": "[1, null, {}]",
    "an object": '{"a": {"b": [true]}}',
    "a word": '"x"',
    "a long word": json.dumps("x" * 100_000),
    "nothing": "null",
    "a negative": "-1",
    "brackets": '"http://[::1"',
    "dots": '"http://a..b"',
    "full width": '"５"',
    "pattern": '"(a+)+$["',
}
ODD = [None, -1, 1e308, 2**62, "", "x" * 3_000, "{{", "(a+)+$[", "http://[::1", "９ s", "9" * 400 + " h", [], {}, [[]]]
WHOLE = ["", "{", "[]", "null", '"\\ud800"', "\xff\xfe", "{}" * 2, "[" * 100_000]
PLACES = ["0", "-1", "99999999999999999999", "1e3", "%00", "%ED%A0%80", "x" * 500]


def operations() -> Iterator[tuple[str, str, dict[str, Any]]]:
    for path, methods in SCHEMA["paths"].items():
        for method, operation in methods.items():
            yield path, method.upper(), operation


def fields_of(operation: dict[str, Any]) -> dict[str, Any]:
    """The fields of an operation's JSON body."""
    content = operation.get("requestBody", {}).get("content", {}).get("application/json", {}).get("schema", {})
    name = content.get("$ref", "").rpartition("/")[2]
    return dict(SCHEMA["components"]["schemas"].get(name, {}).get("properties", {}))


@pytest.fixture
def quiet(monkeypatch: pytest.MonkeyPatch) -> None:
    """Every refusal is noted by the framework; a thousand notes would hide a fault."""
    monkeypatch.setattr(logging.getLogger("django.request"), "disabled", True)


def requests(ids: dict[str, int | str]) -> Iterator[tuple[str, str, str]]:
    """Method, address and body of every malformed request."""

    def filled(path: str, place: str | None = None) -> str:
        return re.sub(r"{(\w+)}", lambda match: place or str(ids[match[1]]), path)

    for path, method, operation in operations():
        for place in PLACES if "{" in path else ():
            yield method, filled(path, place), "{}"
        for parameter in operation.get("parameters", ()):
            if parameter["in"] == "query":
                for value in ("%00", "%ED%A0%80", "nan", "1e999", "-5", "x" * 300, "9" * 40):
                    yield method, f"{filled(path)}?{parameter['name']}={value}", "{}"
        if method in ("POST", "PUT", "PATCH"):
            for body in WHOLE:
                yield method, filled(path), body
        for name in fields_of(operation):
            for body in BODIES.values():
                yield method, filled(path), f'{{"{name}": {body}}}'


def test_no_malformed_request_is_answered_with_a_fault_or_a_page(
    planner: User, ids: dict[str, int | str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("stonekettle.server.access.api.WRONG_SIGN_IN_DELAY_S", 0)
    client = Client(raise_request_exception=False)
    client.force_login(planner)
    faults, count = [], 0
    for method, address, body in requests(ids):
        answer = client.generic(method, f"{address}", body, content_type="application/json")
        if address.startswith("/api/sign-out"):
            client.force_login(planner)
        html = "html" in answer.get("Content-Type", "") and answer.status_code >= 400
        if answer.status_code >= 500 or html:
            faults.append((answer.status_code, method, address[:80], body[:60]))
        count += 1
    assert count >= 400
    assert faults == []


@pytest.mark.parametrize("kind", ["systems", "journeys", "feeds"])
def test_no_edit_of_a_document_is_answered_with_a_fault_or_breaks_its_list(
    client: Client, ids: dict[str, int | str], kind: str
) -> None:
    client.raise_request_exception = False
    address = f"/api/{kind}/{ids[kind[:-1] + '_id']}"
    held = client.get(address).json()
    count = 0
    for edited in edits(held["document"], ODD):
        body = {"document": edited, "base": held["revision"], "editor": "one page"}
        answer = client.put(address, json.dumps(body), content_type="application/json")
        assert answer.status_code < 500, (edited, answer.content[:300])
        assert "html" not in answer["Content-Type"]
        count += 1
    assert count > 100
    assert client.get(f"/api/{kind}").status_code == 200
    assert client.get(address).status_code == 200


def test_no_edit_of_a_plan_is_answered_with_a_fault(client: Client) -> None:
    client.raise_request_exception = False
    plan = document.to_document(document.read(example("quick")))
    count = 0
    for edited in edits(plan, ODD):
        answer = client.post("/api/plans/check", {"source": json.dumps(edited)}, content_type="application/json")
        assert answer.status_code < 500, (edited, answer.content[:300])
        count += 1
    assert count > 300


def test_addresses_that_do_not_exist_answer_as_the_api_does(client: Client) -> None:
    answer = client.get("/api/nope")
    assert answer.status_code == 404
    assert answer["Content-Type"] == "application/problem+json"


def test_a_body_too_large_is_refused_in_words(client: Client, settings: Any) -> None:
    settings.DATA_UPLOAD_MAX_MEMORY_SIZE = 1_000
    answer = client.post("/api/experiments", {"source": "x" * 2_000}, content_type="application/json")
    assert answer.status_code == 413
    assert "larger than" in answer.json()["detail"]


def test_a_fault_of_ours_has_a_number_that_stands_in_the_log(
    client: Client, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def broken(*_: object) -> None:
        raise ZeroDivisionError("nobody expected this")

    monkeypatch.setattr("stonekettle.server.experiments.rules.create", broken)
    answer = client.post("/api/experiments", {"source": "name: x"}, content_type="application/json")
    assert answer.status_code == 500
    assert answer.json()["number"] in caplog.text
    assert "nobody expected this" in caplog.text
    assert "nobody expected this" not in answer.content.decode()
