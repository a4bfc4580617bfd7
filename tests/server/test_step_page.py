"""One step against load: its figures by level, what its time was made of, and from where on it fails for good."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.records import ERRORS, PART, WHOLE
from stonekettle.engine.rollup import Second
from stonekettle.server.runs import analysing, bundling, merging, step_page
from stonekettle.server.runs.models import Generator, Goal, Run, RunSecond
from stonekettle.server.runs.step_page import GoalAt
from tests.server.conftest import store_second

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]
SECONDS = 40


@pytest.fixture
def recorded(make_run: MakeRun) -> Run:
    """Forty seconds of a step of two requests: looking up, connecting, waiting, receiving, and a file after it."""
    run = make_run(0, state="finished", begun_at=7.0)
    generator = Generator.objects.get(run=run)
    for t in range(SECONDS):
        made = np.zeros(32, dtype=records.RECORD)
        made["start_us"], made["step"], made["status"] = 1_000_000 * t, 2, 200
        made["flags"] = [WHOLE, PART, PART, WHOLE] * 8
        made["flags"][3::4] = 0
        made["step"][3::4] = 1
        made["part"][2::4] = 1
        made["dns_us"][1::4], made["connect_us"][1::4] = 1_000, 3_000
        made["first_byte_us"][1::4] = 13_000
        made["total_us"] = [40_000, 20_000, 19_000, 100_000] * 8
        if t % 2:
            made["error"][3::4] = ERRORS.index("time limit")
        counted = Second(t, 30.0, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [0, 8, 8, 0, 0, 0, 0])
        counted.timings["ledger"] = {"2": [4, 0.036]}
        store_second(generator, counted, made)
    merging.merge(run.pk)
    return run


def told(client: Client, run: Run, step: str) -> dict[str, Any]:
    answer = client.get(f"/api/runs/{run.pk}/steps/{step}")
    assert answer.status_code == 200, answer.content
    found: dict[str, Any] = answer.json()
    return found


@pytest.mark.parametrize("analysed", [False, True])
def test_a_steps_time_is_told_by_phase_and_server(client: Client, recorded: Run, analysed: bool) -> None:
    if analysed:
        bundling.compact(recorded.pk)
        analysing.analyse(recorded, state="finished", cause="done")
    page = told(client, recorded, "step:2")
    assert page["levels"]
    for level in page["levels"]:
        phases = {one["phase"]: one["mean_s"] for one in level["phases"]}
        assert phases == pytest.approx(
            {
                "lookup": 0.001,
                "connect": 0.002,
                "tls": 0,
                "sending": 0,
                "waiting": 0.010,
                "receiving": 0.007,
                "files": 0.020,
            }
        )
        assert sum(phases.values()) == pytest.approx(level["mean_s"]) == pytest.approx(0.04)
        assert level["servers"] == [{"name": "ledger", "mean_s": pytest.approx(0.009)}]
        assert level["p95_s"] == pytest.approx(0.04, rel=0.02)
        assert level["errors"] == 0
    failing = told(client, recorded, "step:1")["levels"][0]
    assert failing["errors"] == pytest.approx(failing["count"] / 2, abs=4)
    assert failing["phases"][-3]["mean_s"] == 0.0  # the first byte is not told, and nothing claimed of it


def test_without_single_requests_the_findings_tell_what_they_know(client: Client, recorded: Run) -> None:
    analysing.analyse(recorded, state="finished", cause="done")
    recorded.bundles.all().delete()  # type: ignore[attr-defined]
    level = told(client, recorded, "step:2")["levels"][0]
    assert level["p95_s"] == pytest.approx(0.04, rel=0.02)
    assert (level["phases"], level["mean_s"]) == ([], None)


def test_a_step_that_is_not_there_is_refused(client: Client, recorded: Run) -> None:
    answer = client.get(f"/api/runs/{recorded.pk}/steps/step:99")
    assert answer.status_code == 409
    assert "no step that is called 'step:99'" in answer.json()["detail"]
    RunSecond.objects.filter(run=recorded).delete()
    assert client.get(f"/api/runs/{recorded.pk}/steps/step:2").status_code == 200


@pytest.mark.parametrize(
    ("holds", "fails_from", "missed"),
    [
        ([True, True, False, False], 2, []),
        ([True, False, True, False], 3, [1]),
        ([True, False, None, False, None], 1, []),
        ([False, True, True], None, [0]),
        ([None, None], None, []),
        ([False, False], 0, []),
    ],
)
def test_for_good_is_from_where_on_nothing_kept_it(
    holds: list[bool | None], fails_from: int | None, missed: list[int]
) -> None:
    at = [GoalAt(value_s=None, holds=one) for one in holds]
    found = step_page._over_levels(Goal("step:2", 95, 0.1), at)
    assert (found.fails_from, found.missed) == (fails_from, missed)
