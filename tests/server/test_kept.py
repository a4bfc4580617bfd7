"""What stays of the requests kept whole once a run has ended."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace

import pytest
from django.test import Client

from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Order
from stonekettle.engine import orderbook
from stonekettle.engine.kept import FIRST_FAILURES, SAMPLE, SLOWEST, Whole
from stonekettle.server.runs import analysing, kept, tasks
from stonekettle.server.runs.models import KeptRequest, Run, RunOrder
from tests.server.test_runs import exported

pytestmark = pytest.mark.django_db
ONE = Whole(0, 3, 1, 0, 0, 200, "", 20_000, 0, "slow", 0.5, "GET", "http://x/", "A: b", "", "HTTP/1.1 200", "hello", 5)


@pytest.fixture
def run(make_run: Callable[..., Run]) -> Run:
    """Of two orders, the second from 10 s on."""
    made = make_run(20, state="finished", begun_at=1.0)
    for number, at in ((1, 0.0), (2, 10.0), (3, 20.0)):
        order = Order(number, at, {"everyone": Target.steady(30)}, last=number == 3)
        RunOrder.objects.create(run=made, number=number, order=orderbook.to_plain(order), who="the plan")
    return made


def test_the_slowest_under_each_order_and_the_lowest_chances_of_each_step_stay(run: Run) -> None:
    told = [
        replace(ONE, start_us=at * 1_000_000 + k, total_us=k, chance=k / 1000, user=k, step=step)
        for at in (2, 12)
        for step in (0, 1)
        for k in range(400)
    ]
    kept.keep(run.pk, told)
    kept.settle(run)
    for step in (0, 1):
        left = KeptRequest.objects.filter(run=run, step=step)
        for low, high in ((0, 10_000_000), (10_000_000, 20_000_000)):
            slow = left.filter(start_us__gte=low, start_us__lt=high, total_us__gte=400 - SLOWEST)
            assert slow.count() == SLOWEST
        assert left.filter(total_us__lt=SAMPLE // 2).count() == SAMPLE
        assert left.count() == 2 * SLOWEST + SAMPLE
    kept.settle(run)
    assert KeptRequest.objects.filter(run=run).count() == 2 * (2 * SLOWEST + SAMPLE)


def test_the_first_failures_of_a_kind_stay_and_some_of_the_others(run: Run) -> None:
    told = [
        replace(ONE, start_us=k, error=error, why="failed", chance=0.005 if k == 390 else 0.9, user=k)
        for error in ("status", "time limit")
        for k in range(400)
    ]
    sample = [replace(ONE, start_us=k, chance=0.1, total_us=1) for k in range(SAMPLE)]
    kept.keep(run.pk, [*told, *sample])
    kept.settle(run)
    for error in ("status", "time limit"):
        left = KeptRequest.objects.filter(run=run, error=error).values_list("user", flat=True)
        assert sorted(left) == [*range(FIRST_FAILURES), 390]


def test_they_are_exported_with_names_and_go_with_the_requests(client: Client, run: Run) -> None:
    kept.keep(run.pk, [replace(ONE, body="Grüße")])
    analysing.analyse(run, state="finished", cause="done")
    (line,) = exported(client, run, "kept.jsonl").decode().splitlines()
    told = json.loads(line)
    assert (told["step"], told["group"], told["body"], told["why"]) == ("Home page", "everyone", "Grüße", "slow")
    assert told["trace_id"] == f"{run.pk:08x}{3:08x}{1:08x}{0:08x}"
    run.delete()
    tasks.make_room(0)
    assert not KeptRequest.objects.exists()
