"""Suspects of a run, by what its responses and requests told beside its findings."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.rollup import Second
from stonekettle.server.runs import analysing, merging, suspecting
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Generator, RecordBundle, Run
from tests.server.conftest import store_readings, store_second

pytestmark = pytest.mark.django_db
SECONDS = 48


@pytest.fixture
def run(make_run: Callable[..., Run]) -> Run:
    """Four levels of requests of 100 ms, 80 of them in the ledger and 30 of them receiving."""
    made = make_run(0, state="finished", begun_at=7.0)
    generator = Generator.objects.get(run=made)
    store_readings(made, SECONDS)
    for t in range(SECONDS):
        rows = np.zeros(40, dtype=records.RECORD)
        rows["start_us"], rows["step"], rows["status"] = 1_000_000 * t, 1, 200
        rows["first_byte_us"], rows["total_us"] = 70_000, 100_000
        counted = Second(t, 30.0 * (t // 12 + 1), 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [0, 40, 0, 0, 0, 0, 0])
        counted.timings["ledger"] = {"1": [10, 0.8]}
        store_second(generator, counted, rows)
    merging.merge(made.pk)
    return made


def test_where_time_was_spent_is_seen_at_the_highest_level(client: Client, run: Run) -> None:
    assert client.get(f"/api/runs/{run.pk}/suspects").status_code == 409
    assert "no levels to check" in client.get(f"/api/runs/{run.pk}/health").json()["detail"]
    analysing.analyse(run, state="finished", cause="done")
    assert client.get(f"/api/runs/{run.pk}/suspects").status_code == 200
    health = client.get(f"/api/runs/{run.pk}/health").json()
    assert [level["number"] for level in health["levels"]] == [1, 2, 3, 4]
    assert {one["kind"]: one["text"] for one in health["run"]}["levels"] == "4 of 4 levels ordered are measured."
    found = findings_of(run)
    assert found is not None
    seen = suspecting._seen(run, found)
    assert seen.shares == {"ledger": pytest.approx(0.8)}
    assert seen.on_the_wire == pytest.approx(0.3)
    # Once its requests are gone, the seconds still tell.
    RecordBundle.objects.filter(run=run).delete()
    seen = suspecting._seen(run, found)
    assert (seen.on_the_wire, set(seen.shares)) == (None, {"ledger"})
    run.seeded = True
    assert suspecting._seen(run, found).shares == {}
