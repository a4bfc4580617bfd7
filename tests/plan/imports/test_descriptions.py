"""Journeys from an API's description and from a list of addresses."""

from __future__ import annotations

import json
from typing import Any

import pytest
import yaml

from stonekettle.plan import journey_document
from stonekettle.plan.imports import addresses, files, openapi
from stonekettle.plan.problems import PlanError

API: dict[str, Any] = {
    "openapi": "3.1.0",
    "servers": [{"url": "https://trams.example/api/v2"}],
    "components": {
        "schemas": {
            "Ticket": {
                "type": "object",
                "required": ["zone", "riders"],
                "properties": {
                    "zone": {"type": "string", "enum": ["B", "A"]},
                    "riders": {"type": "array", "items": {"$ref": "#/components/schemas/Rider"}},
                    "note": {"type": "string"},
                },
            },
            "Rider": {
                "type": "object",
                "properties": {"id": {"type": "integer", "minimum": 7}, "self": {"$ref": "#/components/schemas/Rider"}},
            },
        },
        "parameters": {"stop": {"name": "stop", "in": "query", "required": True, "example": "Quay Gate"}},
    },
    "paths": {
        "/departures": {
            "get": {
                "operationId": "departures",
                "parameters": [{"$ref": "#/components/parameters/stop"}],
                "responses": {"200": {}},
            }
        },
        "/tickets": {
            "post": {
                "requestBody": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/Ticket"}}}},
                "responses": {"201": {}, "409": {}},
            }
        },
        "/tickets/{id}": {
            "parameters": [{"name": "id", "in": "path", "schema": {"type": "string", "format": "uuid"}}],
            "delete": {"summary": "Cancel", "responses": {"204": {}}},
            "put": {
                "summary": "Cancel",
                "requestBody": {
                    "content": {"application/x-www-form-urlencoded": {"example": {"zone": "A", "keep": True}}}
                },
            },
        },
    },
}


@pytest.mark.parametrize("text", [json.dumps(API), yaml.safe_dump(API)], ids=["json", "yaml"])
def test_every_operation_becomes_a_step_with_example_values(text: str) -> None:
    made, notes = openapi.read(text.encode(), "Trams", "Quillport")
    journey_document.from_document(made)
    assert [(s["name"], s["request"], s["expect_status"]) for s in made["steps"]] == [
        ("departures", "GET /api/v2/departures?stop=Quay+Gate", [200]),
        ("POST /api/v2/tickets", "POST /api/v2/tickets", [201]),
        ("Cancel", "PUT /api/v2/tickets/{{uuid}}", [200]),
        ("Cancel (2)", "DELETE /api/v2/tickets/{{uuid}}", [204]),
    ]
    ticket = made["steps"][1]["json"]
    assert ticket["zone"] == "B"
    assert ticket["riders"][0]["id"] == 7
    assert "note" not in ticket
    assert made["steps"][2]["form"] == {"zone": "A", "keep": "true"}
    assert notes == []


@pytest.mark.parametrize(
    ("text", "part"),
    [
        ("{}", "no OpenAPI 3"),
        ("swagger: '2.0'", "no OpenAPI 3"),
        ("openapi: 3.0.0\npaths: {}", "no operation"),
        ("openapi: [", "neither YAML nor JSON"),
    ],
)
def test_what_is_no_description_is_refused(text: str, part: str) -> None:
    with pytest.raises(PlanError, match=part):
        openapi.read(text.encode(), "x", "")


@pytest.mark.parametrize(
    "content",
    [
        b"name,url,method,think\nBoard,http://a.example/departures?stop=1,,3 s\nBuy,/tickets,post,\n",
        b"\xef\xbb\xbfname;url;method;think\r\nBoard;http://a.example/departures?stop=1;;3 s\r\nBuy;/tickets;POST;\r\n",
    ],
    ids=["commas", "semicolons"],
)
def test_a_list_of_addresses_becomes_steps(content: bytes) -> None:
    made, _ = addresses.read(content, "List", "")
    journey_document.from_document(made)
    assert made["steps"] == [
        {"name": "Board", "request": "GET /departures?stop=1", "think": "3 s"},
        {"name": "Buy", "request": "POST /tickets", "think": "exponential 2 s"},
    ]


def test_a_bare_list_needs_no_header() -> None:
    made, notes = addresses.read(b"/a\nhttp://x.example/b\nhttp://y.example/a\n/a\n", "List", "")
    assert [s["name"] for s in made["steps"]] == ["GET /a", "GET /b", "GET /a (2)", "GET /a (3)"]
    assert "2 hosts" in notes[0]


@pytest.mark.parametrize(
    ("content", "part"),
    [
        (b"", "is empty"),
        (b"a,b\n1,2\n", "no column of addresses"),
        (b"url\nftp://x/y\n", "line 2: 'ftp://x/y' is not an address"),
        (b"url,method\n/a,FETCH\n", "line 2: 'FETCH' is not a method"),
        (b"url,method\n/a\n,GET\n", "line 3: '' is not an address"),
    ],
)
def test_faults_in_lists_are_told_by_line(content: bytes, part: str) -> None:
    with pytest.raises(PlanError, match=part):
        addresses.read(content, "x", "")


def test_files_are_told_apart_by_what_they_hold() -> None:
    assert files.read(json.dumps(API).encode(), "x", "").kind == "description"
    assert files.read(yaml.safe_dump(API, sort_keys=False).encode(), "x", "").kind == "description"
    assert files.read(b"/a\n/b\n", "x", "").kind == "list"
    entry = {"request": {"url": "http://h/", "method": "GET"}, "response": {"status": 200}}
    recorded = files.read(json.dumps({"log": {"entries": [entry]}}).encode(), "Seen", "Quillport")
    assert (recorded.kind, recorded.host, recorded.document["name"]) == ("recording", "h", "Seen")
    with pytest.raises(PlanError):
        files.read(b"", "x", "")
