"""Stretches of a run are left out of its findings, with a reason; both analyses are kept."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.records import ERRORS
from stonekettle.engine.rollup import Second
from stonekettle.server.history.models import Deed
from stonekettle.server.runs import analysing, merging, setting_aside
from stonekettle.server.runs.models import Generator, Run, SetAside
from tests.server.conftest import store_second

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]
SECONDS = 48
BAD = range(20, 24)


@pytest.fixture
def run(make_run: MakeRun) -> Run:
    """Four levels of twelve seconds; for four seconds of the second nearly everything fails."""
    made = make_run(0, state="finished", cause="done", begun_at=7.0)
    generator = Generator.objects.get(run=made)
    for t in range(SECONDS):
        rows = np.zeros(40, dtype=records.RECORD)
        rows["start_us"], rows["step"], rows["status"] = 1_000_000 * t, 1, 200
        rows["first_byte_us"], rows["total_us"] = 90_000, 100_000
        if t in BAD:
            rows["status"][:30], rows["error"][:30] = 503, ERRORS.index("status")
        counted = Second(t, 30.0 * (t // 12 + 1), 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [0, 40, 0, 0, 0, 0, 0])
        store_second(generator, counted, rows)
    merging.merge(made.pk)
    analysing.analyse(made, state="finished", cause="done")
    return made


def kinds(result: dict[str, Any]) -> set[str]:
    return {one["kind"] for one in result["findings"]["first_errors"]}


def leave_out(client: Client, run: Run, **stretch: object) -> Any:
    given = {"from_s": BAD.start, "until_s": BAD.stop, "why": "the network was changed", **stretch}
    return client.post(f"/api/runs/{run.pk}/set-aside", given, content_type="application/json")


def test_findings_are_made_without_a_stretch_and_of_the_whole_and_back_again(client: Client, run: Run) -> None:
    before = client.get(f"/api/runs/{run.pk}").json()
    assert kinds(before["result"]) == {"status 503"}
    assert client.get(f"/api/runs/{run.pk}/whole").status_code == 409
    assert leave_out(client, run).status_code == 200

    told = client.get(f"/api/runs/{run.pk}").json()
    assert kinds(told["result"]) == set()
    assert told["result"]["set_aside"] == [{"from_s": 20, "until_s": 24, "why": "the network was changed"}]
    (one,) = told["set_aside"]
    assert (one["why"], one["who"]) == ("the network was changed", "planner")
    levels = told["result"]["findings"]["levels"]
    assert not any(first < 24 and end > 20 for level in levels for first, end in level["spans"])
    whole = client.get(f"/api/runs/{run.pk}/whole").json()
    assert whole["findings"] == before["result"]["findings"]
    assert client.get(f"/api/runs/{run.pk}/result.json").json()["set_aside"][0]["from_s"] == 20
    assert Deed.objects.filter(did="left seconds out of the findings of").exists()

    # Both are made anew together.
    run.refresh_from_db()
    analysing.analyse(run, state=run.state, cause=run.cause)
    assert client.get(f"/api/runs/{run.pk}/whole").json() == whole

    assert client.delete(f"/api/runs/{run.pk}/set-aside/{one['id']}").status_code == 200
    after = client.get(f"/api/runs/{run.pk}").json()
    assert after["result"] == before["result"]
    assert after["set_aside"] == []
    assert client.get(f"/api/runs/{run.pk}/whole").status_code == 409


@pytest.mark.parametrize(
    ("stretch", "status", "part"),
    [
        ({"why": "  "}, 409, "Say why"),
        ({"from_s": 24, "until_s": 24}, 409, "before it begins"),
        ({"from_s": SECONDS, "until_s": SECONDS + 5}, 409, "nothing from"),
        ({"from_s": 0, "until_s": 9_999}, 409, "Nothing of the run would be left"),
        ({"from_s": -1}, 422, "from_s"),
        ({"why": "x" * 400}, 422, "why"),
    ],
)
def test_what_cannot_be_left_out_is_refused_in_words(
    client: Client, run: Run, stretch: dict[str, Any], status: int, part: str
) -> None:
    answer = leave_out(client, run, **stretch)
    assert answer.status_code == status
    assert part in answer.content.decode()
    assert not SetAside.objects.exists()


def test_there_is_a_limit_and_a_run_that_is_under_way_or_gone_has_none(client: Client, run: Run) -> None:
    for second in range(setting_aside.MOST):
        SetAside.objects.create(run=run, from_s=second, until_s=second + 1, why="x", who="planner")
    assert "Let one count again" in leave_out(client, run).json()["detail"]
    Run.objects.filter(pk=run.pk).update(state="running")
    assert leave_out(client, run).status_code == 409
    Run.objects.filter(pk=run.pk).update(state="finished", seeded=True)
    assert "practice twin" in leave_out(client, run).json()["detail"]
