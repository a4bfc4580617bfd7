"""The lives of a run's users: what each did, bin by bin, and request by request."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from django.test import Client

from stonekettle.core.weave import FAILED
from stonekettle.engine import records
from stonekettle.engine.rollup import Second
from stonekettle.server.runs import bundling, merging
from stonekettle.server.runs.models import Generator, Run
from tests.server.conftest import store_second

pytestmark = pytest.mark.django_db
USERS = 6


def told(run: Run, seconds: int, users: int = USERS) -> None:
    """Each user starts a step at every second and waits for 250 ms; user 3's of second 10 fails; one is still open."""
    generator = Generator.objects.get(run=run)
    for t in range(seconds):
        made = np.zeros(users, dtype=records.RECORD)
        made["user"] = np.arange(1, users + 1)
        made["start_us"] = t * 1_000_000
        made["total_us"], made["first_byte_us"], made["status"], made["bytes_in"] = 250_000, 200_000, 200, 321
        if t == 10:
            made["error"][2], made["status"][2] = 1, 503
        started = [users + (t == seconds - 1), 0, 0, 0, 0, 0, 0]
        counted = Second(t, float(users), 1.5, 0.5, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, started)
        store_second(generator, counted, made)
    merging.merge(run.pk)


@pytest.fixture
def run(make_run: Callable[..., Run]) -> Run:
    run = make_run(0, state="running", begun_at=1.0)
    told(run, 90)
    return run


def lives(client: Client, run: Run, **piece: int) -> tuple[dict[str, Any], Any]:
    found = client.get(f"/api/runs/{run.pk}/lives", piece).json()
    cells = np.frombuffer(zlib.decompress(base64.b64decode(found["cells"])), dtype=np.uint8)
    return found, cells.reshape(len(found["users"]), found["bins"])


@pytest.mark.parametrize("bundled", [False, True])
def test_each_user_is_a_lane_from_the_spool_or_from_bundles(client: Client, run: Run, bundled: bool) -> None:
    if bundled:
        bundling.compact(run.pk)
    found, cells = lives(client, run, from_s=5, until_s=17)
    assert (found["users"], found["there"], found["failed"]) == (list(range(1, USERS + 1)), USERS, 1)
    # 12 s in 240 bins: 20 a second, five of them waiting.
    assert cells[0].reshape(12, 20)[3].tolist() == [9] * 5 + [0] * 15
    assert np.flatnonzero(cells[2] == FAILED).tolist() == [5 * 20 + 5]


def test_by_itself_it_is_the_last_minute_and_never_more_than_two(client: Client, run: Run) -> None:
    found, _ = lives(client, run)
    assert (found["from_s"], found["until_s"]) == (30, 90)
    told_long, _ = lives(client, run, from_s=0, until_s=5_000)
    assert told_long["until_s"] == 90


def test_what_people_are_doing_now(client: Client, run: Run) -> None:
    states = lives(client, run)[0]["states"]
    assert (states["present"], states["waiting"], states["overdue"], states["thinking"]) == (6, 1.5, 0.5, 4)
    assert states["at_s"] == 88
    last = lives(client, run, from_s=0, until_s=91)[0]["states"]
    assert last["steps"][0]["count"] == 0


def test_a_lane_opens_to_its_requests(client: Client, run: Run) -> None:
    found = client.get(f"/api/runs/{run.pk}/lives/3", {"from_s": 9, "until_s": 12}).json()
    assert [(line["start_s"], line["error"], line["received"]) for line in found] == [
        (9, "", 321),
        (10, "status 503", 321),
        (11, "", 321),
    ]
    assert client.get(f"/api/runs/{run.pk}/lives/999").json() == []


def test_of_more_than_can_be_told_apart_some_are_shown_evenly(client: Client, make_run: Callable[..., Run]) -> None:
    run = make_run(0, state="running", begun_at=1.0)
    told(run, 3, users=5_000)
    found, cells = lives(client, run)
    assert (len(found["users"]), found["there"]) == (2_000, 5_000)
    assert (found["users"][0], found["users"][-1]) == (1, 5_000)
    assert len(cells) == 2_000


def test_a_run_without_requests_has_no_lanes(client: Client, make_run: Callable[..., Run]) -> None:
    found, _ = lives(client, make_run(0))
    assert (found["users"], found["states"]) == ([], None)
