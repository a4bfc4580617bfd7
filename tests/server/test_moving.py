"""What moves with a row of a run, over the wire: by what its meters read and its steps did."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.rollup import Second
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.server.runs import data, merging, metering
from stonekettle.server.runs.models import Generator, MeterScrape, Run
from tests.server.conftest import store_second

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]
SECONDS = 360


@pytest.fixture
def burdened(make_run: MakeRun) -> Run:
    """Six minutes in which the second step takes four times as long while the ledger's disk is slow, in spells."""
    run = make_run(0, state="running", begun_at=7.0)
    run.meter_series.all().delete()
    run.meter_scrapes.all().delete()
    generator = Generator.objects.get(run=run)
    chance = np.random.default_rng(4)
    slow = np.zeros(SECONDS)
    for start in (12, 40, 118, 131, 203, 262, 289, 333):
        slow[start : start + 13] = 1.0
    for t in range(SECONDS):
        done = int(chance.integers(35, 45))
        made = np.zeros(done, dtype=records.RECORD)
        made["status"], made["step"] = 200, np.arange(done) % 2
        made["total_us"] = 40_000 * chance.normal(1, 0.1, done) * (1 + 3 * slow[t] * made["step"])
        counts = [int((made["step"] == step).sum()) for step in range(7)]
        store_second(generator, Second(t, 30.0, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, counts), made)
    catalogue = Catalogue()

    def of(metric: str, kind: Any = "gauge", instance: str = "ledger:1", **labels: str) -> Source:
        return Source("ledger", instance, metric, tuple(sorted(labels.items())), kind)

    took, operations, rounds = 0.0, 0.0, []
    for t in range(SECONDS + 1):
        was = slow[max(0, t - 1)]
        took, operations = took + 20 * (0.002 + 0.01 * was), operations + 20
        read = [
            (of("quillport_disk_latency_seconds", "bucket", le="+Inf"), t, operations),
            (of("quillport_disk_latency_seconds_sum", "counter"), t, took),
            (of("quillport_disk_latency_seconds_count", "counter"), t, operations),
            (of("quillport_cpu_seconds", "counter"), t, 2.0 * t),
            (of("quillport_cpu_cores"), t, 4.0),
            (of("quillport_queue_length"), t, 5 + float(chance.normal())),
            (of("quillport_queue_length", instance="ledger:2"), t, 5 + 10 * was + float(chance.normal())),
            *((of(f"quillport_noise_{k}"), t, float(chance.normal())) for k in range(20)),
        ]
        rounds.append(catalogue.batch(t, read))
    data.store(run.pk, rounds)
    merging.merge(run.pk)
    metering.Reader(run.pk).look()
    run.refresh_from_db()
    return run


def told(client: Client, run: Run, **asked: object) -> dict[str, Any]:
    answer = client.get(f"/api/runs/{run.pk}/moving", asked)
    assert answer.status_code == 200, answer.content
    found: dict[str, Any] = answer.json()
    return found


def named(found: dict[str, Any]) -> list[str]:
    return [
        f"{one['component']} {one['name']} {one['of']}".strip() for one in found["lines"] if one["standing"] == "moves"
    ]


def test_the_cause_is_named_with_the_instance_and_the_step_that_it_burdens(client: Client, burdened: Run) -> None:
    found = told(client, burdened)
    assert found["of"] == "step:1"
    assert found["title"] == "the response time of Departures board"
    assert found["enough"]
    assert found["blocks"] == 72
    assert set(named(found)) == {
        "ledger disk latency, mean",
        "ledger queue length",
        "ledger queue length ledger:2",
    }
    latency = next(one for one in found["lines"] if one["name"] == "disk latency, mean")
    assert latency["pin"] == {
        "component": "ledger",
        "metric": "quillport_disk_latency_seconds",
        "figure": "mean",
        "other_component": "",
        "other_metric": "",
    }
    assert latency["apart"]["correlation"] > 0.6
    assert abs(latency["apart"]["lag_s"]) <= 5
    assert len(latency["values"]) == len(found["values"]) == 72
    assert max(value for value in found["values"] if value) > 0.1
    # The cpu stands as what it is: a resource, and still.
    assert any("ledger cpu" in name for name in found["still"])
    assert any(name.startswith("ledger noise") for name in [*found["did_not"], *found["unknown"]])


def test_another_step_is_left_as_it_was(client: Client, burdened: Run) -> None:
    found = told(client, burdened, of="step:0")
    assert not found["enough"]
    assert named(found) == []


def test_any_metric_can_be_the_row(client: Client, burdened: Run) -> None:
    key = next(one["key"] for one in told(client, burdened)["lines"] if one["name"] == "disk latency, mean")
    found = told(client, burdened, row=key)
    assert found["title"] == "ledger disk latency, mean"
    assert found["unit"] == "s"
    assert "ledger queue length ledger:2" in named(found)
    assert key not in [one["key"] for one in found["lines"]]


@pytest.mark.parametrize("row", ["errors", "throughput", "in flight"])
def test_rows_without_anything_to_explain_name_nothing(client: Client, burdened: Run, row: str) -> None:
    assert named(told(client, burdened, row=row, of="all")) == []


def test_a_stretch_is_looked_at_alone(client: Client, burdened: Run) -> None:
    found = told(client, burdened, from_s=90, until_s=180)
    assert (found["from_s"], found["until_s"], found["blocks"]) == (90, 180, 18)
    short = told(client, burdened, from_s=90, until_s=120)
    assert not short["answer"]
    assert short["lines"] == []


def test_without_rounds_of_meters_the_rows_of_the_plate_are_compared(client: Client, burdened: Run) -> None:
    MeterScrape.objects.filter(run=burdened).update(chunk=zlib.compress(b""))
    found = told(client, burdened)
    assert {one["component"] for one in found["lines"]} <= {"", "ledger"}
    assert not any("noise" in one["name"] for one in found["lines"])


def test_what_there_is_not_is_refused_with_what_there_is(client: Client, burdened: Run) -> None:
    answer = client.get(f"/api/runs/{burdened.pk}/moving", {"of": "step:99"})
    assert answer.status_code == 409
    assert "step:0" in answer.json()["detail"]
    answer = client.get(f"/api/runs/{burdened.pk}/moving", {"row": "moods"})
    assert answer.status_code == 409
    assert "in flight" in answer.json()["detail"]


def test_a_run_that_measured_nothing_gives_no_answer(client: Client, make_run: MakeRun) -> None:
    found = told(client, make_run(0, state="finished", begun_at=1.0))
    assert not found["answer"]
    assert found["lines"] == []
