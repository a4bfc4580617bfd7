"""Files with anything in them: read, or refused in words, and never anything else."""

from __future__ import annotations

import json
from random import Random
from typing import Any

import pytest
from tests.edits import edits
from tests.plan.imports.test_har import PORTAL, recording

from stonekettle.plan import journey_document
from stonekettle.plan.feed import rows_of
from stonekettle.plan.imports import files, table
from stonekettle.plan.problems import PlanError

ODD: tuple[Any, ...] = (
    None, True, 0, -1, 1e308, 10**30, "", "x", "\u0000", "\ud800", "http://[::1", "http://a..b", "１２", [], [[]], {},
    {"a": 1},
)  # fmt: skip
DESCRIPTION = {
    "openapi": "3.0.3",
    "servers": [{"url": "https://trams.example/v1"}],
    "paths": {
        "/stops/{id}": {
            "parameters": [{"name": "id", "in": "path", "schema": {"type": "integer", "minimum": 3}}],
            "post": {
                "operationId": "stop",
                "parameters": [{"name": "zone", "in": "query", "required": True, "examples": {"a": {"value": "A"}}}],
                "requestBody": {
                    "content": {
                        "application/json": {
                            "schema": {
                                "type": "object",
                                "required": ["b"],
                                "properties": {
                                    "b": {"type": "array", "items": {"$ref": "#/components/schemas/C"}},
                                    "c": {"oneOf": [{"enum": [1, 2]}]},
                                },
                            }
                        }
                    }
                },
                "responses": {"201": {"description": "made"}},
            },
        }
    },
    "components": {
        "schemas": {"C": {"allOf": [{"properties": {"n": {"type": ["null", "string"], "format": "uuid"}}}]}}
    },
}


def read_or_refused(content: bytes) -> None:
    """What is read can be kept; what is refused says why."""
    try:
        found = files.read(content, "Read", "")
        made = found.accepted({proposal.name for proposal in found.proposals})
        json.dumps([made, [answer.body for answer in found.answers]], ensure_ascii=False).encode()
        journey_document.from_document(made)
    except PlanError as refused:
        problems = refused.problems
        assert all(problem.message and problem.mend for problem in problems)


@pytest.mark.parametrize("whole", [DESCRIPTION, json.loads(recording(*PORTAL[:6]))], ids=["description", "recording"])
def test_no_edit_of_a_file_is_more_than_refused(whole: Any) -> None:
    count = 0
    for edited in edits(whole, ODD):
        read_or_refused(json.dumps(edited).encode())
        count += 1
    assert count > 500


def test_no_cut_or_mangled_file_is_more_than_refused() -> None:
    random = Random(1)
    sources = [
        recording(*PORTAL),
        json.dumps(DESCRIPTION).encode(),
        b"address,name\n/a,x\nhttp://h/b,y\n",
        b"steps:\n- name: a\n",
    ]
    for _ in range(600):
        content = bytearray(random.choice(sources))
        for _ in range(random.randrange(1, 6)):
            at = random.randrange(len(content))
            content[at : at + random.randrange(4)] = random.randbytes(random.randrange(4))
        read_or_refused(bytes(content[: random.randrange(1, len(content) + 1)]))


@pytest.mark.parametrize(
    "content",
    [
        b"",
        b",,,,\n" * 400,
        b"\n" * 300,
        b'"' + b"a" * 300_000 + b'"\nx\n',
        b"a,a,a\n1,2,3\n",
        b"a\n" + b"x\n" * 1_000_002,
        "１,２\n３,４\n".encode(),
        b"\xff\xfe\x00",
        b"a,b\n1,\x00\n",
    ],
    ids=[
        "empty",
        "commas only",
        "blank lines",
        "a wide field",
        "same names",
        "too many rows",
        "wide digits",
        "odd",
        "NUL",
    ],
)
@pytest.mark.parametrize("encoding", ["", "utf-8", "undefined", "idna", "utf-16"])
def test_no_table_is_more_than_refused(content: bytes, encoding: str) -> None:
    try:
        found = table.read(content, encoding)
        rows_of(found.rows(None, "fill up").text)
    except PlanError as refused:
        problems = refused.problems
        assert all(problem.message and problem.mend for problem in problems)
