"""Single requests: asked for in words, told one by one and together, and the visit that one belongs to."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from django.test import Client
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from stonekettle.engine import records
from stonekettle.engine.kept import Whole
from stonekettle.engine.records import ERRORS, NEW_CONNECTION, PART, WHOLE
from stonekettle.engine.rollup import Second
from stonekettle.server.runs import bundling, kept, merging
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run
from tests.server.conftest import store_second

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]
SECONDS = 40
KEPT = Whole(
    *(7_100_000, 1, 8, 0, 1, 503, "status", 220_000, 0, "failed", 0.5),
    *("POST", "http://x/a", "A: b", "q=1", "HTTP/1.1 503\r\nServer-Timing: db;dur=4", "full", 4),
)


@pytest.fixture
def recorded(make_run: MakeRun) -> Run:
    """Forty seconds of three steps: one fine, one of two requests, one that is refused from 20 s on. Second by second
    there are more users, and everything takes longer."""
    run = make_run(0, state="finished", begun_at=7.0)
    generator = Generator.objects.get(run=run)
    for t in range(SECONDS):
        made = np.zeros(5, dtype=records.RECORD)
        made["start_us"] = 1_000_000 * t + np.array([100, 200, 200, 250, 100_000])
        made["scheduled_us"] = made["start_us"] - 40
        made["user"], made["visit"] = [0, 2, 2, 2, 1], t + 1
        made["step"], made["part"], made["status"] = [0, 2, 2, 2, 1], [0, 0, 0, 1, 0], 200
        made["flags"] = [NEW_CONNECTION, WHOLE, PART, PART, 0]
        made["first_byte_us"] = np.array([9_000, 0, 20_000, 10_000, 100_000])
        made["total_us"] = np.array([10_000, 40_000, 30_000, 39_950, 200_000]) * (1 + t / 10)
        if t >= 20:
            made["status"][4], made["error"][4] = 503, ERRORS.index("status")
        counted = Second(t, 30.0 + t, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [1, 1, 1, 0, 0, 0, 0])
        store_second(generator, counted, made)
    merging.merge(run.pk)
    kept.keep(run.pk, [KEPT, replace(KEPT, start_us=7_900_000)])
    return run


def told(client: Client, run: Run, **asked: object) -> dict[str, Any]:
    answer = client.get(f"/api/runs/{run.pk}/requests", asked)
    assert answer.status_code == 200, answer.content
    found: dict[str, Any] = answer.json()
    return found


@pytest.mark.parametrize("bundled", [False, True])
def test_steps_are_told_slowest_first_with_their_phases(client: Client, recorded: Run, bundled: bool) -> None:
    if bundled:
        bundling.compact(recorded.pk)
    found = told(client, recorded, limit=3)
    assert (found["recorded"], found["total"], found["until_s"]) == (True, 3 * SECONDS, SECONDS)
    slowest = found["lines"][0]
    assert slowest["total_s"] == pytest.approx(0.2 * 4.9)
    assert (slowest["step"], slowest["start_s"], slowest["error"]) == ("step:1", 39.1, "status 503")
    assert slowest["late_s"] == pytest.approx(40e-6)
    assert slowest["trace"] == records.trace_id(recorded.pk, 1, 40, 1)
    assert found["together"]["errors"] == 20
    fine = 0.01 * (1 + np.arange(SECONDS) / 10)
    several, refused = 4 * fine, 20 * fine[:20]
    good = np.concatenate([fine, several, refused])
    assert found["together"]["p95_s"] == pytest.approx(np.percentile(good, 95), rel=1e-4)
    assert found["together"]["mean_s"] == pytest.approx(good.mean(), rel=1e-4)
    assert sum(found["bars"]) == len(good)


def test_a_step_with_several_requests_is_one_or_all_of_them(client: Client, recorded: Run) -> None:
    step = told(client, recorded, of="step:2", order="first", limit=1)
    assert (step["total"], step["lines"][0]["whole"]) == (SECONDS, True)
    wire = told(client, recorded, of="step:2", order="first", limit=2, counting="requests")
    assert wire["total"] == 2 * SECONDS
    assert [line["part"] for line in wire["lines"]] == [0, 1]


@pytest.mark.parametrize(
    ("asked", "count"),
    [
        ({"answer": "failed"}, 20),
        ({"answer": "status 503"}, 20),
        ({"answer": "status 200"}, 100),
        ({"answer": "time limit"}, 0),
        ({"answer": "succeeded", "of": "step:1"}, 20),
        ({"from_s": 10, "until_s": 20}, 30),
        ({"last_s": 5}, 15),
        ({"users_from": 40, "users_until": 49}, 30),
        ({"users_from": 69}, 3),
        ({"slower_ms": 900}, 4),
        ({"within_ms": 10}, 1),
        ({"user": 2}, 40),
        ({"user": 77}, 0),
        ({"offset": 5_000}, 120),
    ],
)
def test_what_is_asked_for_is_what_is_counted(
    client: Client, recorded: Run, asked: dict[str, object], count: int
) -> None:
    assert told(client, recorded, **asked)["total"] == count


def test_put_together_each_kind_says_how_to_see_it_alone(client: Client, recorded: Run) -> None:
    for by in ("step", "answer", "level", "minute", "group", "user"):
        found = told(client, recorded, by=by, limit=0)
        assert sum(kind["count"] for kind in found["by"]) == found["total"], by
        for kind in found["by"]:
            if kind["narrow"]:
                alone = told(client, recorded, limit=0, **kind["narrow"])
                assert (alone["total"], alone["together"]["p50_s"]) == (kind["count"], kind["p50_s"]), kind
    assert [kind["kind"] for kind in told(client, recorded, by="answer")["by"]] == ["status 200", "status 503"]


@pytest.mark.parametrize(
    ("asked", "status", "says"),
    [
        ({"of": "step:99"}, 409, "nothing that is called 'step:99'"),
        ({"answer": "bad"}, 409, "'bad' is no answer. Say any, succeeded"),
        ({"answer": "status 12345"}, 409, "is no answer"),
        ({"user": -1}, 422, "user"),
        ({"limit": 201}, 422, "limit"),
        ({"slower_ms": "nan"}, 422, "slower_ms"),
    ],
)
def test_what_cannot_be_asked_is_refused_in_words(
    client: Client, recorded: Run, asked: dict[str, object], status: int, says: str
) -> None:
    answer = client.get(f"/api/runs/{recorded.pk}/requests", asked)
    assert answer.status_code == status
    assert says in answer.content.decode()


def test_a_visit_is_told_with_what_is_kept_of_it(client: Client, recorded: Run) -> None:
    bundling.compact(recorded.pk)
    visit = client.get(f"/api/runs/{recorded.pk}/visits/1/8").json()
    assert [(line["name"], line["status"], line["texts"]) for line in visit["lines"]] == [
        (visit["lines"][0]["name"], 200, True)
    ]
    # What was kept of another request of the same step is not taken for this one's.
    assert [text["start_us"] for text in visit["texts"]] == [7_100_000, 7_900_000]
    assert visit["texts"][0]["sent_body"] == "q=1"
    several = client.get(f"/api/runs/{recorded.pk}/visits/2/3").json()
    assert [(line["part"], line["whole"]) for line in several["lines"]] == [(0, False), (1, False)]
    assert client.get(f"/api/runs/{recorded.pk}/visits/1/800").status_code == 404
    assert client.get(f"/api/runs/{recorded.pk}/visits/{2**70}/1").status_code in (404, 422)


def test_a_run_without_single_requests_says_so(client: Client, recorded: Run) -> None:
    GeneratorSecond.objects.update(records=b"")
    assert told(client, recorded)["recorded"] is False


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(st.lists(st.integers(50, 30_000_000), min_size=1, max_size=30), min_size=1, max_size=4),
    st.lists(st.booleans(), min_size=30, max_size=30),
)
def test_every_percentile_shown_is_that_of_the_records(
    client: Client, make_run: MakeRun, times_us: list[list[int]], failed: list[bool]
) -> None:
    """Tables and distributions read histograms: their percentiles lie by those of the records themselves, within the
    width of a bucket (1/64); those of single requests are exact."""
    run = make_run(0, state="finished", begun_at=7.0)
    generator = Generator.objects.get(run=run)
    for t, some in enumerate(times_us):
        made = np.zeros(len(some), dtype=records.RECORD)
        made["start_us"], made["status"], made["total_us"] = 1_000_000 * t, 200, some
        made["error"] = np.array(failed[: len(some)]) * ERRORS.index("time limit")
        store_second(generator, Second(t, 3.0, 1.0, 0, 0.2, 0, 0.1, 0, 0, 0, [len(some), 0, 0, 0, 0, 0, 0]), made)
    merging.merge(run.pk)
    good = np.sort([x / 1e6 for some in times_us for x, bad in zip(some, failed, strict=False) if not bad])
    table = client.get(f"/api/runs/{run.pk}/steps").json()["lines"]
    step = next(line for line in table if line["id"] == "step:0")
    shape = client.get(f"/api/runs/{run.pk}/distribution", {"of": "step:0"}).json()["shapes"][0]
    exact = told(client, run, of="step:0", limit=0)["together"]
    for percent in (50, 95, 99):
        name = f"p{percent}_s"
        if not good.size:
            assert step[name] is shape[name] is exact[name] is None
            continue
        rank = good.size * percent / 100
        low, high = good[max(0, int(np.ceil(rank)) - 1)], good[min(good.size - 1, int(rank))]
        for shown in (step[name], shape[name]):
            assert low * (1 - 1 / 64) - 1e-6 <= shown <= high * (1 + 1 / 64) + 1e-6
        assert exact[name] == pytest.approx(np.percentile(good, percent))
