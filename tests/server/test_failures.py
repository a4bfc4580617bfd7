"""The errors of a run by kind, step and time: what is told is what was recorded."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.kept import Whole
from stonekettle.engine.records import ERRORS, PART
from stonekettle.engine.rollup import Second
from stonekettle.server.runs import bundling, kept, merging
from stonekettle.server.runs.models import Generator, GeneratorSecond, RecordBundle, Run
from tests.server.conftest import store_second

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]
REFUSED = Whole(
    *(5_200_000, 3, 1, 0, 1, 503, "status", 20_000, 0, "failed", 0.5),
    *("GET", "http://x/a", "A: b", "", "HTTP/1.1 503", "full " * 900, 5),
)


@pytest.fixture
def failing(make_run: MakeRun) -> Run:
    """Forty seconds of ten requests: from 5 s on one of step 1 is refused, from 20 s on two of step 2 time out."""
    run = make_run(0, state="finished", begun_at=7.0)
    generator = Generator.objects.get(run=run)
    for t in range(40):
        made = np.zeros(11, dtype=records.RECORD)
        made["status"], made["step"], made["total_us"] = 200, [0, 0, 0, 0, 1, 1, 1, 2, 2, 2, 0], 20_000
        if t >= 5:
            made["status"][4], made["error"][4] = 503, ERRORS.index("status")
        if t >= 20:
            made["status"][7:9], made["error"][7:9] = 0, ERRORS.index("time limit")
        # A part that failed is not a step that did.
        made["error"][10], made["flags"][10] = ERRORS.index("connection lost"), PART
        counted = Second(t, 30.0 + t, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [4, 3, 3, 0, 0, 0, 0])
        store_second(generator, counted, made)
    merging.merge(run.pk)
    others = [replace(REFUSED, status=500), replace(REFUSED, error="", status=200)]
    kept.keep(run.pk, [*others, REFUSED, replace(REFUSED, start_us=30_000_000, user=9)])
    return run


def told(client: Client, run: Run, **asked: object) -> dict[str, Any]:
    answer = client.get(f"/api/runs/{run.pk}/errors", asked)
    assert answer.status_code == 200, answer.content
    found: dict[str, Any] = answer.json()
    return found


@pytest.mark.parametrize("bundled", [False, True])
def test_errors_are_told_by_kind_step_and_first_appearance(client: Client, failing: Run, bundled: bool) -> None:
    if bundled:
        bundling.compact(failing.pk)
        assert RecordBundle.objects.filter(run=failing).exists()
    found = told(client, failing)
    assert (found["done"], found["failed"], found["by_step"]) == (400, 35 + 40, True)
    late, refused = found["kinds"]
    assert (late["kind"], late["count"], late["first_s"], late["last_s"]) == ("time limit", 40, 20, 39)
    assert late["first_users"] == pytest.approx(50)
    assert [(one["id"], one["count"]) for one in late["steps"]] == [("step:2", 40)]
    assert (refused["kind"], refused["count"], refused["first_s"]) == ("status 503", 35, 5)
    assert [(one["id"], one["count"]) for one in refused["steps"]] == [("step:1", 35)]
    assert sum(refused["trend"]) == 35
    assert sum(refused["trend"][:8]) == 1
    assert late["examples"] == []
    # Levels of 12 s, in the second to last of which it began; the third lasts to 36 s.
    assert [(one["name"].split(",")[0], one["count"], one["done"]) for one in late["levels"]] == [
        ("Level 2", 2 * 4, 120),
        ("Level 3", 2 * 12, 120),
        ("Level 4", 2 * 4, 40),
    ]
    assert [one["count"] for one in refused["levels"]] == [7, 12, 12, 4]
    first, second = refused["examples"]
    assert (first["at_s"], first["user"], first["request"], first["status"]) == (5.2, 3, "GET http://x/a", 503)
    assert first["excerpt"].startswith("full full")
    assert len(first["excerpt"]) == 600
    assert second["user"] == 9


def test_a_stretch_is_looked_at_alone(client: Client, failing: Run) -> None:
    found = told(client, failing, from_s=6, until_s=20)
    assert (found["from_s"], found["until_s"], found["done"], found["failed"]) == (6, 20, 140, 14)
    assert [(one["kind"], one["first_s"]) for one in found["kinds"]] == [("status 503", 6)]
    assert found["kinds"][0]["examples"] == []
    healthy = told(client, failing, until_s=5)
    assert (healthy["failed"], healthy["kinds"]) == (0, [])


def test_without_single_requests_kinds_are_told_and_steps_are_not(client: Client, failing: Run) -> None:
    GeneratorSecond.objects.filter(generator__run=failing).update(records=b"")
    found = told(client, failing)
    assert not found["by_step"]
    assert [(one["kind"], one["count"], one["steps"]) for one in found["kinds"]] == [
        ("time limit", 40, []),
        ("status 503", 35, []),
    ]
