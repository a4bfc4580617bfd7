"""The table of steps: what each did in a stretch, by whichever rows it is read."""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.rollup import Second
from stonekettle.server.runs import merging, metering
from stonekettle.server.runs.models import Generator, Run
from stonekettle.server.runs.steps import covering
from tests.server.conftest import store_second

pytestmark = pytest.mark.django_db


@pytest.fixture
def run(make_run: Callable[..., Run]) -> Run:
    """75 seconds; in second t step 0 takes 10 t ms thrice and fails once, and the first that has an objective reaches
    its limit after 40 s."""
    run = make_run(0, state="finished", begun_at=1.0, result={})
    generator = Generator.objects.get(run=run)
    goal = run.goals[0]
    for t in range(75):
        made = np.zeros(5, dtype=records.RECORD)
        made["status"], made["total_us"], made["bytes_in"] = 200, 10_000 * (t + 1), 500
        made["error"][3] = 1
        made["step"][4] = int(goal.selection.removeprefix("step:"))
        made["total_us"][4] = goal.limit_s * 1e6 * (t + 0.5) / 40
        counted = Second(t, 30.0, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [4, 0, 0, 0, 0, 0, 0])
        store_second(generator, counted, made)
    merging.merge(run.pk)
    metering.Reader(run.pk).look()
    run.refresh_from_db()
    return run


def table(client: Client, run: Run, **stretch: int) -> dict[str, Any]:
    found: dict[str, Any] = client.get(f"/api/runs/{run.pk}/steps", stretch).json()
    return found


def line(found: dict[str, Any], key: str) -> dict[str, Any]:
    return next(one for one in found["lines"] if one["id"] == key)


@pytest.mark.parametrize(("start", "end"), [(0, 75), (7, 72), (13, 14), (60, 75)])
def test_a_stretch_is_summed_up_exactly(client: Client, run: Run, start: int, end: int) -> None:
    found = table(client, run, from_s=start, until_s=end)
    times = np.repeat(0.010 * (np.arange(start, end) + 1), 3)
    step = line(found, "step:0")
    assert (step["count"], step["errors"]) == (4 * (end - start), end - start)
    assert step["rate"] == pytest.approx(3.0)
    assert step["error_share"] == 0.25
    assert step["mean_s"] == pytest.approx(times.mean(), rel=1e-6)
    assert step["least_s"] == pytest.approx(times.min(), rel=0.008)
    assert step["most_s"] == pytest.approx(times.max(), rel=0.008)
    assert step["deviation_s"] == pytest.approx(np.std(times, ddof=1), rel=0.01, abs=1e-9)
    assert step["p95_s"] == pytest.approx(np.percentile(times, 95), rel=0.03)
    assert step["received"] == 2_000 * (end - start)
    assert line(found, "all")["count"] == 5 * (end - start)
    idle = [one for one in found["lines"] if one["count"] == 0]
    assert idle
    assert all(one["mean_s"] is None and one["p95_s"] is None and one["received"] == 0 for one in idle)


def test_the_last_minute_is_that_of_the_end(client: Client, run: Run) -> None:
    found = table(client, run, last_s=60)
    assert (found["from_s"], found["until_s"]) == (15, 75)
    assert line(found, "step:0")["trend"][-1] == pytest.approx(0.75, rel=0.01)


def test_rows_are_as_wide_as_they_can_be() -> None:
    assert list(covering(55, 192, 1)) == [
        *((1, at) for at in range(55, 60)),
        (60, 60),
        (60, 120),
        (10, 180),
        (1, 190),
        (1, 191),
    ]
    assert list(covering(0, 70, 10)) == [(60, 0), (10, 60)]


def test_objectives_stand_beside_what_was_measured(client: Client, run: Run) -> None:
    goal = run.goals[0]
    early, late = (line(table(client, run, **piece), goal.selection) for piece in ({"until_s": 30}, {"from_s": 60}))
    assert [(one["goals"][0]["holds"], one["goals"][0]["limit_s"]) for one in (early, late)] == [
        (True, goal.limit_s),
        (False, goal.limit_s),
    ]


def test_it_goes_out_as_csv_and_as_a_workbook(client: Client, run: Run) -> None:
    text = client.get(f"/api/runs/{run.pk}/steps.csv", {"from_s": 10, "until_s": 20}).content.decode()
    rows = list(csv.DictReader(io.StringIO(text)))
    first = next(row for row in rows if row["kind"] == "step")
    assert (first["completed"], first["errors"], first["from s"], first["until s"]) == ("40", "10", "10", "20")
    answer = client.get(f"/api/runs/{run.pk}/steps.xlsx")
    with zipfile.ZipFile(io.BytesIO(answer.content)) as book:
        sheet, shared = book.read("xl/worksheets/sheet1.xml").decode(), book.read("xl/sharedStrings.xml").decode()
    assert "<v>300</v>" in sheet
    assert first["name"] in shared


def test_a_run_that_has_measured_nothing_yet_has_an_empty_table(client: Client, make_run: Callable[..., Run]) -> None:
    found = table(client, make_run(0))
    assert all(one["count"] == 0 and one["p95_s"] is None for one in found["lines"])
