"""How long requests took in a stretch of a run: what is told is what was recorded."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.rollup import Second
from stonekettle.server.runs import merging
from stonekettle.server.runs.models import Generator, Run
from tests.server.conftest import store_second

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]
BUCKET = 0.009


def told(client: Client, run: Run, **asked: object) -> dict[str, Any]:
    answer = client.get(f"/api/runs/{run.pk}/distribution", asked)
    assert answer.status_code == 200, answer.content
    found: dict[str, Any] = answer.json()
    return found


@pytest.fixture
def timed(make_run: MakeRun) -> tuple[Run, np.ndarray]:
    """A run of 40 s in which one step takes as long as it takes, with the times of it by second in µs; twice as
    long from second 20 on, and one in ten fails."""
    run = make_run(0, state="running", begun_at=7.0)
    generator = Generator.objects.get(run=run)
    random = np.random.default_rng(3)
    times = random.lognormal(10, 0.7, (40, 30)).astype(np.int64)
    times[20:] *= 2
    for t, taken in enumerate(times):
        made = np.zeros(30, dtype=records.RECORD)
        made["status"], made["total_us"], made["step"] = 200, taken, 1
        made["error"][::10] = 1
        store_second(generator, Second(t, 30.0, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [0, 30, 0, 0, 0, 0, 0]), made)
    merging.merge(run.pk)
    good = np.ones(30, dtype=bool)
    good[::10] = False
    return run, times[:, good]


def test_figures_are_those_of_the_recorded_times(client: Client, timed: tuple[Run, np.ndarray]) -> None:
    run, times = timed
    found = told(client, run, of="step:1", from_s=3, until_s=17)
    taken = times[3:17].ravel() / 1e6
    (shape,) = found["shapes"]
    assert (shape["from_s"], shape["until_s"], shape["count"]) == (3, 17, taken.size)
    assert shape["mean_s"] == pytest.approx(taken.mean(), rel=1e-9)
    for name, percent in (("p50_s", 50), ("p95_s", 95), ("p99_s", 99)):
        rank = np.sort(taken)[int(np.ceil(taken.size * percent / 100)) - 1]
        assert shape[name] == pytest.approx(rank, rel=BUCKET)


def test_bars_hold_every_time_once_between_their_edges(client: Client, timed: tuple[Run, np.ndarray]) -> None:
    run, times = timed
    found = told(client, run, of="all")
    edges, (shape,) = np.array(found["edges_s"]), found["shapes"]
    assert len(shape["bars"]) == len(edges) - 1 <= 60
    assert shape["bars"] == np.histogram(times / 1e6, edges)[0].tolist()
    widths = np.diff(np.log(edges))
    assert widths[1:-1].max() < 2.1 * widths[1:-1].min()


def test_another_stretch_stands_beside_it_in_the_same_bars(client: Client, timed: tuple[Run, np.ndarray]) -> None:
    run, times = timed
    found = told(client, run, of="step:1", until_s=20, beside_from_s=20, beside_until_s=40)
    here, there = found["shapes"]
    edges = np.array(found["edges_s"])
    for shape, part in ((here, times[:20]), (there, times[20:])):
        assert shape["bars"] == np.histogram(part / 1e6, edges)[0].tolist()
    assert there["p50_s"] == pytest.approx(2 * here["p50_s"], rel=0.15)
    lately = told(client, run, of="step:1", last_s=20)["shapes"]
    assert lately == [{**there, "bars": lately[0]["bars"]}]


def test_where_nothing_succeeded_nothing_is_known(client: Client, timed: tuple[Run, np.ndarray]) -> None:
    run, _ = timed
    found = told(client, run, of="step:0")
    assert found["edges_s"] == []
    assert found["shapes"] == [
        {
            "from_s": 0,
            "until_s": 40,
            "count": 0,
            "bars": [],
            "mean_s": None,
            "p50_s": None,
            "p95_s": None,
            "p99_s": None,
        }
    ]
    assert told(client, run, from_s=900)["shapes"][0]["count"] == 0


def test_what_the_run_has_not_is_refused(client: Client, timed: tuple[Run, np.ndarray]) -> None:
    run, _ = timed
    answer = client.get(f"/api/runs/{run.pk}/distribution?of=step:99")
    assert answer.status_code == 409
    assert "nothing that is called 'step:99'" in answer.json()["detail"]
    assert client.get(f"/api/runs/{run.pk}/distribution?beside_until_s=-3").status_code == 422
