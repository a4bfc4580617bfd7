"""Room for more users, asked of a run: from the seconds that were stored."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from django.test import Client

from stonekettle.core.bottleneck import LimitingResource
from stonekettle.engine import records
from stonekettle.engine.rollup import Second
from stonekettle.report import findings
from stonekettle.server.runs import analysing, merging
from stonekettle.server.runs.models import Generator, Run
from tests.server.conftest import store_readings, store_second

pytestmark = pytest.mark.django_db
SECONDS = 48
SLOWER = (1.0, 1.2, 3.0, 9.0)


@pytest.fixture
def run(make_run: Callable[..., Run]) -> Run:
    """Four levels, each of whose requests take so many times 100 ms, and a tenth of them at the last fail."""
    made = make_run(0, state="finished", begun_at=7.0)
    generator = Generator.objects.get(run=made)
    store_readings(made, SECONDS)
    random = np.random.default_rng(5)
    for t in range(SECONDS):
        level = t // 12
        rows = np.zeros(40, dtype=records.RECORD)
        rows["start_us"], rows["step"], rows["status"] = 1_000_000 * t, 1, 200
        rows["total_us"] = 100_000 * SLOWER[level] * random.uniform(0.95, 1.05, 40)
        rows["first_byte_us"] = rows["total_us"]
        if level == 3:
            rows["error"][:4], rows["status"][:4] = 1, 500
        counted = Second(t, 30.0 * (level + 1), 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [0, 40, 0, 0, 0, 0, 0])
        store_second(generator, counted, rows)
    merging.merge(made.pk)
    return made


def asked(client: Client, run: Run, **query: Any) -> Any:
    return client.get(f"/api/runs/{run.pk}/more-users", query)


def test_the_slowdown_of_each_level_and_where_it_crosses(client: Client, run: Run) -> None:
    assert "no two levels" in asked(client, run).json()["detail"]
    analysing.analyse(run, state="finished", cause="done")
    found = asked(client, run).json()
    assert [level["value"] for level in found["levels"]] == pytest.approx(SLOWER, rel=0.03)
    assert found["note"]["title"].startswith("No room beyond ")
    assert 60 < found["crossing"]["low"] < found["crossing"]["value"] < found["crossing"]["high"] < 95
    assert (found["extrapolated"], found["unit"], found["tested"]) == (False, "users", pytest.approx(120, rel=0.02))
    assert len(found["left_out"]) == 6, "the other steps were not done"


def test_an_apdex_score_counts_failures(client: Client, run: Run) -> None:
    analysing.analyse(run, state="finished", cause="done")
    found = asked(client, run, index="apdex", limit=0.85, target_s=0.2).json()
    # 100 and 120 ms satisfy, 300 ms tolerate, 900 ms and failures do not.
    assert [level["value"] for level in found["levels"]] == pytest.approx([1, 1, 0.5, 0], abs=0.02)
    assert found["note"]["title"].startswith("No room beyond ")
    held = asked(client, run, index="apdex", limit=0.4, target_s=0.2).json()
    assert held["crossing"]["value"] > found["crossing"]["value"]


def test_a_limit_that_can_be_none_is_refused_with_its_mend(client: Client, run: Run) -> None:
    analysing.analyse(run, state="finished", cause="done")
    answer = asked(client, run, limit=0.5)
    assert answer.status_code == 422
    (problem,) = answer.json()["problems"]
    assert (problem["path"], problem["message"]) == (
        "limit",
        "0.5 times as slow is none. Give one above 1, at most 1000.",
    )
    assert asked(client, run, index="apdex", limit=3).status_code == 422
    assert asked(client, run, index="apdex", limit="nan").status_code == 422
    assert asked(client, run, index="mood").status_code == 422


def test_a_run_limited_by_its_generators_claims_nothing(client: Client, run: Run) -> None:
    analysing.analyse(run, state="finished", cause="done")
    assert run.result
    found = findings.read(run.result["findings"])
    run.result["findings"] = findings.write(
        replace(found, limiting=LimitingResource("generator", None, (), None, None))
    )
    run.save()
    answer = asked(client, run)
    assert answer.status_code == 409
    assert "The generators were the limit" in answer.json()["detail"]
