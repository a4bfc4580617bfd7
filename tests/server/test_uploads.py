"""Metrics files added to a run after it ended."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from stonekettle.server.runs.models import MetricsFile, Run

pytestmark = pytest.mark.django_db
BEGUN = datetime(2026, 11, 23, 9, 0, tzinfo=UTC)
USE = {
    "component": "planner",
    "time_column": "time",
    "columns": [{"column": "busy", "metric": "planner busy", "resource": "cpu", "capacity": 100}],
}


@pytest.fixture
def run(make_run: Callable[..., Run]) -> Run:
    """Twenty seconds of five requests each, ended."""
    return make_run(20, state="finished", cause="The load profile ran to its end.", begun_at=BEGUN.timestamp())


def csv(ahead_s: int = 0, rows: int = 40, percent: float = 60) -> str:
    """Busy while the run ran, idle before and after, by a clock that is ``ahead_s``."""
    lines = ["time,busy"]
    for k in range(-10, rows - 10):
        moment = BEGUN + timedelta(seconds=k + ahead_s)
        lines.append(f"{moment:%Y-%m-%d %H:%M:%S},{percent if 0 < k <= 20 else 2}")
    return "\n".join(lines)


class Files:
    def __init__(self, client: Client, run: Run) -> None:
        self.client, self.run = client, run

    def send(self, path: str, text: str, **fields: str) -> Any:
        file = SimpleUploadedFile("planner.csv", text.encode())
        return self.client.post(f"/api/runs/{self.run.pk}/files{path}", {"file": file, **fields})

    def add(self, text: str, **changes: Any) -> Any:
        return self.send("", text, use=json.dumps({**USE, **changes}))

    def busy(self) -> list[float | None]:
        plate = self.client.get(f"/api/runs/{self.run.pk}/plate").json()
        return next(r["utilisation"] for r in plate["resources"] if r["key"] == "planner.planner busy")


@pytest.fixture
def files(client: Client, run: Run) -> Files:
    return Files(client, run)


@pytest.mark.parametrize("ahead_s", [0, 30, -45])
def test_a_look_finds_times_columns_and_the_clock(files: Files, ahead_s: int) -> None:
    found = files.send("/look", csv(ahead_s)).json()
    assert found["time_column"] == "time"
    assert [(c["name"], c["role"]) for c in found["columns"]] == [("time", "time"), ("busy", "number")]
    assert found["offset_s"] == pytest.approx(ahead_s, abs=1.5)
    assert found["match"] > found["clear_from"]
    assert MetricsFile.objects.count() == 0


def test_an_added_column_becomes_a_resource_on_the_runs_clock(files: Files, run: Run) -> None:
    answer = files.add(csv(30), offset_s=30)
    assert answer.status_code == 201, answer.content
    busy = files.busy()
    assert busy[1:19] == [pytest.approx(0.6)] * 18
    detail = files.client.get(f"/api/runs/{run.pk}").json()
    assert detail["files"][0]["metrics"] == ["planner busy"]
    assert detail["result"] is not None
    run.refresh_from_db()
    assert run.state == "finished"


def test_a_file_can_be_taken_out_again(files: Files, run: Run) -> None:
    added = files.add(csv()).json()["id"]
    assert files.client.delete(f"/api/runs/{run.pk}/files/{added}").status_code == 200
    assert files.client.get(f"/api/runs/{run.pk}").json()["files"] == []
    with pytest.raises(StopIteration):
        files.busy()


@pytest.mark.parametrize(
    ("text", "changes", "field"),
    [
        (csv(7200), {}, "zone"),
        (csv(), {"component": "cellar"}, "component"),
        (csv(), {"time_column": "when"}, "time_column"),
        (csv(), {"zone": "Nowhere"}, "zone"),
        (csv(), {"columns": []}, "columns"),
        (csv(), {"columns": [{"column": "busy", "metric": "b", "resource": "cpu"}]}, "capacity"),
        (csv(), {"columns": [{"column": "idle", "metric": "b"}]}, "columns"),
        ("one", {}, "file"),
    ],
)
def test_what_cannot_be_used_is_refused_and_nothing_kept(
    files: Files, text: str, changes: dict[str, Any], field: str
) -> None:
    answer = files.add(text, **changes)
    assert answer.status_code == 422
    (problem,) = answer.json()["problems"]
    assert problem["path"] == field
    assert problem["mend"]
    assert MetricsFile.objects.count() == 0


def test_a_run_under_way_takes_no_files(client: Client, make_run: Callable[..., Run]) -> None:
    answer = Files(client, make_run(5, state="running", begun_at=BEGUN.timestamp())).add(csv())
    assert answer.status_code == 409
