"""Steering a run: going on early, staying longer, regions, cutting off; and seeing beforehand what would come of it."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.core.orders import Ordered
from stonekettle.engine import signals
from stonekettle.engine.foreseeing import foresee
from stonekettle.engine.lead import AHEAD_S
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.signals import Verb, Wish
from tests.engine.test_lead import FEW, SEGMENTS, WISHES, hold, plan_of, ramp
from tests.engine.virtual import TICK_S, World

LEVELS = (hold(10, 20), hold(20, 20), hold(30, 20))


def levels(world: World) -> list[tuple[float, float, float]]:
    orders = world.lead.course.orders
    return [(round(one.start_s, 1), round(one.end_s, 1), one.users) for one in orders.levels()]


def answers(world: World) -> list[str]:
    return [action.text for _, action in world.actions if isinstance(action, signals.Answer)]


def test_the_next_level_begins_at_once_and_those_after_it_earlier() -> None:
    world = World(plan_of(*LEVELS), wishes=[(5.0, Wish(Verb.SKIP, "anna"))]).play()
    first = levels(world)[0][1]
    assert first == pytest.approx(5.5, abs=0.1)
    assert [users for _, _, users in levels(world)] == [10, 20, 30]
    assert world.lead.course.orders.duration_s == pytest.approx(first + 40, abs=0.01)
    assert answers(world) == ["On to what comes next."]


def test_going_on_early_from_the_last_level_ends_the_load() -> None:
    world = World(plan_of(*LEVELS), wishes=[(45.0, Wish(Verb.SKIP, "anna"))]).play()
    assert world.end == signals.End(RunState.FINISHED, "Its last level was ended by anna.", True)
    assert world.lead.course.orders.duration_s == pytest.approx(45.5, abs=0.1)


def test_a_level_lasts_longer_and_what_follows_comes_later() -> None:
    longer = [(5.0, Wish(Verb.EXTEND, "anna", over_s=15.0)), (8.0, Wish(Verb.EXTEND, "anna", over_s=5.0))]
    world = World(plan_of(*LEVELS), wishes=longer).play()
    assert levels(world) == [(0, 40, 10), (40, 60, 20), (60, 80, 30)]
    assert answers(world) == ["This level lasts 15 s longer.", "This level lasts 5 s longer."]


def test_a_level_made_longer_and_held_meanwhile_is_followed_by_what_was_to_follow() -> None:
    wishes = [
        (25.0, Wish(Verb.EXTEND, "anna", over_s=30.0)),
        (30.0, Wish(Verb.HOLD, "anna")),
        (33.0, Wish(Verb.RESUME, "anna")),
    ]
    world = World(plan_of(*LEVELS), wishes=wishes).play()
    assert [users for _, _, users in levels(world)] == [10, 20, 30]


def test_a_held_load_goes_on_to_the_next_level() -> None:
    wishes = [(5.0, Wish(Verb.RAISE, "anna", amount=50.0)), (12.0, Wish(Verb.SKIP, "anna"))]
    world = World(plan_of(*LEVELS), wishes=wishes).play()
    assert [users for _, _, users in levels(world)] == [10, 50, 20, 30]


@pytest.mark.parametrize(
    ("wish", "part"),
    [
        (Wish(Verb.EXTEND, "a"), "a time above 0"),
        (Wish(Verb.EXTEND, "a", over_s=5.0), "on its way to another level"),
        (Wish(Verb.RAISE, "a", amount=50.0, region="south"), "Nobody comes from a region 'south'"),
    ],
)
def test_what_cannot_be_done_to_a_level_is_refused(wish: Wish, part: str) -> None:
    world = World(plan_of(ramp(10, 30, 20)), wishes=[(5.0, wish)]).play()
    assert part in answers(world)[0]


def test_a_search_is_neither_hurried_nor_held_up() -> None:
    searching = {"search": {"from": 5, "to": 50, "within": "2 min"}}
    plan = plan_of(searching, objectives=[{"step": "a", "percentile": 95, "within": "1 s"}])
    for verb in (Verb.SKIP, Verb.EXTEND):
        standing = World(plan_of(*LEVELS)).lead.course.standing() | {"profile": None}
        found = foresee(plan, Ordered(()), standing, 0.0, Wish(verb, "a", over_s=5.0))
        assert "The search decides itself" in found.refused


def test_one_region_is_steered_and_the_others_stay() -> None:
    groups = [
        {"name": name, "region": region, "users": [hold(10, 30)]}
        for name, region in (("tram", "north"), ("bus", "north"), ("ferry", "south"))
    ]
    plan = plan_of(groups=groups)
    world = World(plan)
    course = world.lead.course
    course.follow(0.0)
    assert course.meet(5.0, Wish(Verb.RAISE, "anna", amount=50.0, region="north")) == "Raised to 50 from 'north'."
    assert [course.orders.amount(name, 6.0) for name in ("tram", "bus", "ferry")] == [25, 25, 10]


def test_cutting_off_ends_what_users_wait_for() -> None:
    world = World(plan_of(*LEVELS), wishes=[(5.0, Wish(Verb.CUT_OFF, "anna", "smoke"))]).play()
    last = world.lead.course.orders.orders[-1]
    assert (last.last, last.haste, last.cut) == (True, True, True)
    assert world.end == signals.End(RunState.STOPPED, "Cut off by anna: smoke.", True)


def test_users_who_finish_their_step_for_too_long_can_still_be_cut_off() -> None:
    wishes = [(5.0, Wish(Verb.STOP, "anna")), (7.0, Wish(Verb.CUT_OFF, "ben"))]
    world = World(plan_of(*LEVELS), wishes=wishes, slowest_s=20.0, generators=1).play()
    assert [order.cut for order in world.lead.course.orders.orders[-2:]] == [False, True]
    assert world.lead.course.orders.duration_s == pytest.approx(5.5, abs=0.1)
    given = [action.order for _, action in world.actions if isinstance(action, signals.Give)]
    assert given[-1].cut


@FEW
@given(
    SEGMENTS,
    WISHES,
    st.floats(1, 20),
    st.one_of(
        st.builds(Wish, st.sampled_from([Verb.HOLD, Verb.PAUSE, Verb.RESUME, Verb.SKIP, Verb.LET_GO]), st.just("ben")),
        st.builds(Wish, st.just(Verb.EXTEND), st.just("ben"), over_s=st.sampled_from([2.0, 9.0])),
        st.builds(Wish, st.just(Verb.RAISE), st.just("ben"), amount=st.just(70.0), over_s=st.sampled_from([0.0, 4.0])),
    ),
    st.integers(1, 99),
)
def test_what_is_foreseen_of_a_wish_is_what_is_ordered_after_it(
    segments: list[dict[str, Any]], wishes: list[tuple[float, Wish]], at: float, wish: Wish, seed: int
) -> None:
    plan = plan_of(*segments)
    wish = replace(wish, key=7)
    world = World(plan, wishes=[*(pair for pair in wishes if pair[0] < at), (at, wish)], seed=seed)
    standing, orders, when = None, world.lead.course.orders, 0.0
    for tick in range(6_000):
        told = [action.course for _, action in world.actions if isinstance(action, signals.Stand)]
        if told and world.zero is not None and [one for _, one in world.waiting] == [wish]:
            standing, orders = json.loads(json.dumps(told[-1])), world.lead.course.orders
            when = tick * TICK_S - world.zero + AHEAD_S
        world.tick(tick * TICK_S)
        if world.end is not None:
            break
    said = [a.text for _, a in world.actions if isinstance(a, signals.Answer) and a.key == 7]
    if standing is None or not said:
        return  # it was over before it was asked
    seen = foresee(plan, orders, standing, when, wish)
    assert (seen.refused or seen.said) == said[0]
    if seen.refused:
        return
    for expected, done in zip(seen.ordered.orders, world.lead.course.orders.orders, strict=True):
        assert done.at_s == pytest.approx(expected.at_s, abs=0.05)
        assert (done.paused, done.last) == (expected.paused, expected.last)
        for name, target in expected.targets.items():
            assert done.targets[name].start == pytest.approx(target.start, abs=1.5)
            assert done.targets[name].end == pytest.approx(target.end, abs=1e-6)
