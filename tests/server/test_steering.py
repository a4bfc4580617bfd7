"""Steering over HTTP: what would come of a wish, who was faster, and how the load is drawn meanwhile."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import pytest
from django.test import Client

from stonekettle.engine import orderbook
from stonekettle.engine.course import Course
from stonekettle.engine.script import GroupTerms
from stonekettle.engine.strategies import Profile
from stonekettle.server.runs.models import Run, RunOrder, RunWish

pytestmark = pytest.mark.django_db
JSON: Any = {"content_type": "application/json"}


def under_way(run: Run, elapsed_s: float = 12.0) -> Run:
    """The run as its lead would have led it so far."""
    plan = run.plan
    course = Course(
        Profile(plan.planned), plan.planned.arrivals, [GroupTerms.of(plan, one) for one in plan.people], 5_000
    )
    course.follow(elapsed_s)
    for give in course.take_given():
        RunOrder.objects.create(
            run=run, number=give.order.number, order=orderbook.to_plain(give.order), who=give.who, why=give.why
        )
    run.begun_at, run.course = time.time() - elapsed_s, course.standing()
    run.save()
    return run


@pytest.fixture
def run(client: Client, make_run: Callable[..., Run]) -> Run:
    return under_way(make_run(10, state="running"))


def prospect(client: Client, run: Run, **body: Any) -> dict[str, Any]:
    answer = client.post(f"/api/runs/{run.pk}/prospect", body, **JSON)
    assert answer.status_code == 200, answer.content
    found: dict[str, Any] = answer.json()
    return found


def test_what_would_come_of_a_wish_is_drawn_and_nothing_is_done(client: Client, run: Run) -> None:
    seen = prospect(client, run, verb="raise", amount=90, over_s=20)
    assert (seen["said"], seen["refused"], seen["last"]) == ("Raised to 90 within 20 s.", "", 0)
    profile = seen["profile"]
    assert profile["endless"]
    assert profile["users"][-1] == 90
    reached = profile["users"].index(90)
    assert profile["t"][reached] - profile["t"][reached - 1] == pytest.approx(20)
    assert profile["t"][reached - 1] > 12.7
    assert not RunWish.objects.exists()
    assert run.orders.count() == RunOrder.objects.count()


def test_a_longer_level_moves_the_end(client: Client, run: Run) -> None:
    planned = client.get(f"/api/runs/{run.pk}").json()["outline"]["profile"]["duration_s"]
    assert planned == run.plan.planned.duration_s
    longer = prospect(client, run, verb="extend", over_s=40)["profile"]
    assert longer["duration_s"] == pytest.approx(planned + 40)
    assert not longer["endless"]
    sooner = prospect(client, run, verb="skip")["profile"]
    assert sooner["duration_s"] < planned


def test_what_cannot_be_done_is_told_before_it_is_asked(client: Client, run: Run) -> None:
    seen = prospect(client, run, verb="resume")
    assert seen["profile"] is None
    assert seen["refused"] == "There is nothing to resume: the load follows its profile."
    assert (
        "Nobody comes from a region 'mars'" in prospect(client, run, verb="raise", amount=90, region="mars")["refused"]
    )


def test_before_there_is_load_nothing_can_be_foreseen(client: Client, make_run: Callable[..., Run]) -> None:
    waiting = make_run(0)
    answer = client.post(f"/api/runs/{waiting.pk}/prospect", {"verb": "hold"}, **JSON)
    assert answer.status_code == 409
    assert "makes no load yet (queued)" in answer.json()["detail"]


def test_who_looked_before_another_steered_is_asked_to_look_again(client: Client, run: Run) -> None:
    seen = prospect(client, run, verb="raise", amount=90)["last"]
    first = client.post(f"/api/runs/{run.pk}/wishes", {"verb": "hold", "seen": seen}, **JSON)
    assert first.status_code == 202
    second = client.post(f"/api/runs/{run.pk}/wishes", {"verb": "raise", "amount": 90, "seen": seen}, **JSON)
    assert second.status_code == 409
    assert "planner steered meanwhile: hold. Look at what would come of yours now" in second.json()["detail"]
    assert client.post(f"/api/runs/{run.pk}/wishes", {"verb": "pause", "seen": seen}, **JSON).status_code == 202
    again = prospect(client, run, verb="raise", amount=90)["last"]
    body = {"verb": "raise", "amount": 90, "seen": again, "over_s": 20, "why": "what breaks?"}
    assert client.post(f"/api/runs/{run.pk}/wishes", body, **JSON).status_code == 202
    deed = client.get(f"/api/deeds?kind=run&object_id={run.pk}").json()["deeds"][0]
    assert deed["note"] == "raise to 90 over 20 s. what breaks?"


def test_users_who_finish_can_be_cut_off_and_nothing_else_be_asked(
    client: Client, make_run: Callable[..., Run]
) -> None:
    run = under_way(make_run(10, state="draining"))
    assert client.post(f"/api/runs/{run.pk}/wishes", {"verb": "hold"}, **JSON).status_code == 409
    assert client.post(f"/api/runs/{run.pk}/wishes", {"verb": "cut off"}, **JSON).status_code == 202
    assert client.get(f"/api/runs/{run.pk}").json()["stop_requested_by"] == "planner"


def test_a_held_load_is_drawn_beyond_now(client: Client, run: Run) -> None:
    plan = run.plan
    course = Course.at(
        Profile.at(plan.planned, run.course["profile"]),
        run.ordered,
        [GroupTerms.of(plan, one) for one in plan.people],
        run.course,
    )
    from stonekettle.engine.signals import Verb, Wish

    course.meet(12.5, Wish(Verb.HOLD, "anna"))
    (give,) = course.take_given()
    RunOrder.objects.create(run=run, number=give.order.number, order=orderbook.to_plain(give.order), who="anna")
    Run.objects.filter(pk=run.pk).update(course=course.standing())
    told = client.get(f"/api/runs/{run.pk}").json()
    assert (told["mode"], told["steered"]) == ("held", True)
    profile = told["outline"]["profile"]
    assert profile["endless"]
    assert profile["t"][-1] == pytest.approx(72, abs=5)
