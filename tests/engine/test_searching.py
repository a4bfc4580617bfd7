"""Runs whose load is led by a search, in virtual time: the real lead, with a twin in the place of the system."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from stonekettle.core import analysis
from stonekettle.core.load_profile import Target
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.orders import Order, Ordered
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.rehearsal import Rehearsed, rehearse
from stonekettle.engine.searching import searcher_of
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice import config
from stonekettle.practice.twin import Twin, journeys_of

STEP = {"name": "home", "request": "GET /", "think": "exponential 1 s"}


def plan_of(within: str = "7 min", most: int = 300, **more: Any) -> Plan:
    load = {"load": [{"search": {"from": 5, "to": most, "within": within}}]}
    return document.from_document(
        {
            "name": "p",
            "system": {"name": "s", "base_url": "http://127.0.0.1:1"},
            "journeys": [{"name": "Look", "steps": [STEP]}],
            "objectives": [{"p95": "60 ms"}],
            **(more if "groups" in more else {**load, **more}),
        }
    )


def played(plan: Plan) -> Rehearsed:
    return rehearse(plan, SYSTEM, journeys_of(plan), seed=3)


SYSTEM = config.from_document(
    {
        "components": [{"name": "shop", "cpus": 2}],
        "routes": [{"method": "GET", "path": "/", "visits": [{"component": "shop", "cpu_ms": 12}]}],
    }
)
"""Two processors of 12 ms: at most 167 steps a second, for some 169 users."""


@pytest.fixture(scope="module")
def found() -> Rehearsed:
    return played(plan_of())


def test_a_run_is_led_to_the_limit_and_says_how_it_got_there(found: Rehearsed) -> None:
    plan = plan_of()
    assert found.end.state == RunState.FINISHED
    assert "the limit is known within ±" in found.end.cause
    assert "Light levels had foretold " in found.end.cause
    said = [note.text for note in found.notes]
    assert all(note.who == "the search" for note in found.notes)
    assert said[0] == "5 users: a light level, for what a step takes and costs."
    assert any("up to which the objectives should hold" in text for text in said)
    limit = analysis.analyse(
        found.twin.collected(), found.ordered, document.core_objectives(plan), plan.error_limit
    ).comfort
    assert isinstance(limit, ComfortLimit)
    assert limit.load is not None
    assert 100 < limit.load.value < 160
    assert (limit.load.high - limit.load.low) / 2 / limit.load.value < 0.1


def test_what_was_ordered_was_there(found: Rehearsed) -> None:
    whole = found.twin.seconds - 1  # it ends within the last second
    users, ordered = found.twin.present([0])[:whole], found.ordered.mean_users(whole)
    assert np.all(np.abs(users - ordered) <= np.maximum(1, 0.01 * ordered))
    assert len({order.targets["everyone"].end for order in found.ordered.orders if not order.last}) >= 4


def test_its_users_come_from_several_regions() -> None:
    search = {"search": {"from": 5, "to": 90, "within": "2 min"}}
    plan = plan_of(groups=[{"name": "all", "users": [search], "regions": {"north": 3, "south": 1}}])
    found = played(plan)
    first = found.ordered.orders[0].targets
    assert first == {"all from north": Target.steady(3.75), "all from south": Target.steady(1.25)}


def test_it_waits_while_people_lead_the_load() -> None:
    plan = plan_of()
    guide = searcher_of(plan)
    assert guide is not None
    (turn,) = guide.turns(0.0)
    assert turn.targets == {"everyone": Target.steady(5.0)}
    twin = Twin(SYSTEM, journeys_of(plan), seed=1)
    ordered = Ordered((Order(1, 0.0, turn.targets),))
    twin.follow(ordered, 120)
    guide.stop(120)
    guide.heed(twin.collected(), ordered)
    assert list(guide.turns(121)) == []
    assert guide.go_on(130) == {"everyone": Target.steady(5.0)}
    (turn,) = guide.turns(131)
    assert turn.targets["everyone"].end > 5


def test_without_room_it_says_so() -> None:
    found = played(plan_of(most=30, within="4 min"))
    assert found.end.cause == "Every objective holds at 30 users, the most the search was to try."


def test_who_is_turned_away_at_once_is_no_reason_to_go_on_upwards() -> None:
    """Answers are fast all the while; a third of them are refusals from some load on."""
    shop = {"name": "shop", "cpus": 2, "refuse_over": 2}
    visits = [{"component": "shop", "cpu_ms": 12}]
    system = config.from_document({"components": [shop], "routes": [{"method": "GET", "path": "/", "visits": visits}]})
    plan = plan_of(most=2_000)
    found = rehearse(plan, system, journeys_of(plan), seed=3)
    assert max(order.targets["everyone"].end for order in found.ordered.orders if not order.last) < 200
    assert found.end.state == RunState.FINISHED


def test_a_search_that_is_told_nothing_ends_by_its_time() -> None:
    guide = searcher_of(plan_of(within="2 min"))
    assert guide is not None
    assert len(list(guide.turns(0.0))) == 1
    assert list(guide.turns(130.0)) == []
    (turn,) = guide.turns(136.0)
    assert turn.over
    assert turn.why.startswith("The search had 2 min, and nothing")
