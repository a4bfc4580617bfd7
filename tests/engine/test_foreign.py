"""Answers and data of other kinds: they may fail their own request, and never the generator."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
import pytest

from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.engine.errors import TrialFailed
from stonekettle.engine.generator import LoadLoop
from stonekettle.engine.records import ERRORS, view
from stonekettle.engine.script import compile_plan
from stonekettle.engine.trial import try_all
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from tests.engine.conftest import KnownServer


def plan_of(url: str, *steps: dict[str, Any], csv: str = "rider\nx\n") -> Plan:
    return document.from_document(
        {
            "name": "test",
            "system": {"name": "s", "base_url": url},
            "journeys": [{"name": "j", "steps": [{"think": "20 ms", **step} for step in steps]}],
            "feeds": [{"name": "riders", "csv": csv}],
            "load": [{"hold": {"users": 2, "for": "1 s"}}],
        }
    )


def errors_under_load(plan: Plan) -> set[str]:
    chunks: list[bytes] = []
    loop = LoadLoop(compile_plan(plan), LoadProfile((Segment.hold(2, 0.6),)), lambda second, data: chunks.append(data))
    loop.run(time.perf_counter(), lambda: None)
    records = np.concatenate([view(chunk) for chunk in chunks])
    assert len(records) > 3
    return {ERRORS[error] for error in records["error"]}


@pytest.mark.parametrize(
    ("path", "check", "passes"),
    [
        ("/latin", {"contains": "Zürich"}, True),
        ("/latin", {"contains": "Zurich"}, False),
        ("/deep", {"json": "$.a", "exists": True}, False),
        ("/deep", {"json": "$.a", "exists": False}, True),
    ],
)
def test_trial_and_load_judge_alike(known_server: KnownServer, path: str, check: dict[str, Any], passes: bool) -> None:
    plan = plan_of(known_server.url, {"name": "a", "request": f"GET {path}", "checks": [check]})
    if passes:
        try_all(compile_plan(plan), plan.system.base_url)
    else:
        with pytest.raises(TrialFailed, match="failed at step 'a'"):
            try_all(compile_plan(plan), plan.system.base_url)
    assert errors_under_load(plan) == ({"none"} if passes else {"check"})


def test_names_of_any_language_go_into_headers_and_never_end_their_line(known_server: KnownServer) -> None:
    plan = plan_of(
        known_server.url,
        {"name": "a", "request": "GET /", "headers": {"X-Rider": "{{rider}}"}},
        csv='rider\nJörg\n"Ana\r\nX-Rider: evil"\n',
    )
    assert errors_under_load(plan) == {"none"}
    seen = {value.encode("latin-1").decode() for values in known_server.names for value in values or ()}
    assert seen == {"Jörg", "Ana  X-Rider: evil"}
    assert all(len(values or ()) == 1 for values in known_server.names)


def test_half_a_character_in_an_answer_can_be_kept_and_sent_again(known_server: KnownServer) -> None:
    plan = plan_of(
        known_server.url,
        {"name": "a", "request": "GET /half", "keep": [{"name": "token", "json": "$.token"}]},
        {"name": "b", "request": "POST /?t={{token}}", "json": {"t": "{{token}}"}},
    )
    assert errors_under_load(plan) == {"none"}
