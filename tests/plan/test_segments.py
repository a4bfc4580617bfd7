"""Loads told in sentences: what each says, how they go on from each other, and which say nothing sound."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError
from stonekettle.plan.stretching import stretched

Sentence = dict[str, Any]


def plan_of(*load: Sentence, **more: Any) -> Plan:
    journey = {"name": "Look", "steps": [{"name": "home", "request": "GET /", "think": "1 s"}]}
    told = {"load": list(load)} if load else {}
    system = {"name": "s", "base_url": "http://127.0.0.1:1"}
    return document.from_document({"name": "p", "system": system, "journeys": [journey], **told, **more})


def levels(*load: Sentence) -> list[tuple[float, float, float]]:
    return [(level.start_s, level.end_s, level.users) for level in plan_of(*load).planned.levels()]


def hold(users: int, during: str) -> Sentence:
    return {"hold": {"users": users, "for": during}}


def test_a_dozen_then_two_more_every_minute_then_six_more() -> None:
    told = levels(
        hold(12, "1 min"),
        {"climb": {"by": 2, "every": "1 min", "for": "8 min"}},
        {"climb": {"by": 6, "every": "1 min", "to": 40}},
    )
    assert [users for _, _, users in told] == [12, 14, 16, 18, 20, 22, 24, 26, 28, 34, 40]
    assert told[-1][1] == 11 * 60


def test_forty_five_more_at_once_and_gradually_away() -> None:
    plan = plan_of(hold(15, "5 min"), {"jump": {"by": 45, "for": "25 min"}}, {"drop": {"by": 3, "every": "10 s"}})
    found = plan.planned
    assert [found.amount("everyone", t) for t in (0, 299, 300, 1799, 1800, 1810, 1989)] == [15, 15, 60, 60, 57, 54, 3]
    assert found.duration_s == 30 * 60 + 200
    assert plan.people[0].profile.area == 15 * 300 + 60 * 1500 + 10 * sum(range(0, 60, 3))


def test_people_who_gather_come_evenly_and_stay_their_time() -> None:
    plan = plan_of({"gather": {"users": 400, "within": "40 min", "stay": "15 min"}})
    found = plan.planned
    assert found.peak_users == 150
    assert [found.amount("everyone", t) for t in (0, 60, 900, 2400, 3300)] == [0, 10, 150, 150, 0]
    assert found.duration_s == 55 * 60
    assert plan.people[0].profile.area == 400 * 15 * 60  # each stays a quarter of an hour


@pytest.mark.parametrize("stay", ["40 min", "1 h"])
def test_who_stays_longer_than_the_coming_lasts_is_there_with_all_others(stay: str) -> None:
    plan = plan_of({"gather": {"users": 400, "within": "40 min", "stay": stay}})
    assert plan.planned.peak_users == 400


def test_a_wait_is_no_level_and_parts_those_around_it() -> None:
    assert levels(hold(5, "1 min"), {"wait": "30 s"}, hold(5, "1 min")) == [(0, 60, 5), (90, 150, 5)]


def test_a_hold_without_a_number_goes_on_as_it_is() -> None:
    assert levels({"ramp": {"to": 30, "over": "10 s"}}, {"hold": {"for": "1 min"}})[-1] == (10, 70, 30)


def test_the_last_stair_is_where_a_drop_or_a_climb_shall_end() -> None:
    assert [n for _, _, n in levels(hold(10, "10 s"), {"drop": {"by": 4, "every": "10 s", "to": 1}})] == [10, 6, 2, 1]
    assert [n for _, _, n in levels(hold(10, "10 s"), {"climb": {"by": 4, "every": "10 s", "to": 20}})] == [
        10, 14, 18, 20,
    ]  # fmt: skip


def test_arrivals_are_told_the_same_way() -> None:
    callers = [{"hold": {"rate": 2, "for": "10 s"}}, {"jump": {"by": 1.5, "for": "10 s"}}, {"wait": "5 s"}]
    plan = plan_of(groups=[{"name": "callers", "arrivals": callers}])
    assert [level.rate for level in plan.planned.levels()] == [2, 3.5]


@pytest.mark.parametrize(
    ("load", "path", "part"),
    [
        ([hold(5, "1 min"), {"drop": {"by": 1, "every": "1 s", "to": 5}}], "load[1]", "nothing to drop"),
        ([hold(5, "1 min"), {"jump": {"by": -6, "for": "1 min"}}], "load[1]", "6 cannot leave"),
        ([hold(5, "1 min"), {"jump": {"by": 6, "to": 8, "for": "1 min"}}], "load[1].jump", "either"),
        ([{"climb": {"by": 6, "every": "1 min"}}], "load[0].climb", "either 'to' or 'for'"),
        ([{"climb": {"by": 6, "every": "1 min", "for": "90 s"}}], "load[0].climb", "cut short"),
        ([{"climb": {"by": 6, "every": "0 s", "for": "90 s"}}], "load[0].climb", "cut short"),
        ([hold(5, "1 min"), {"gather": {"users": 9, "within": "1 min", "stay": "1 min"}}], "load[0]", "one by one"),
        ([{"climb": {"by": 40_000, "every": "1 s", "for": "4 s"}}], "load", "160000 users"),
        ([{"gather": {"users": 9, "within": "1 min", "stay": "0 s"}}], "load[0].gather.stay", "greater than 0"),
        ([{"rise": {"to": 9}}], "load[0]", "exactly one of"),
    ],
)  # fmt: skip
def test_what_says_nothing_sound_is_refused_where_it_stands(load: list[Sentence], path: str, part: str) -> None:
    with pytest.raises(PlanError) as caught:
        plan_of(*load)
    assert any(p.path == path and part in p.message and p.mend for p in caught.value.problems), caught.value.problems


def test_gatherings_of_one_group_stay_equally_long() -> None:
    morning = {"gather": {"users": 9, "within": "1 min", "stay": "1 min"}}
    evening = {"gather": {"users": 9, "within": "1 min", "stay": "2 min"}}
    with pytest.raises(PlanError, match="equally long"):
        plan_of(morning, {"wait": "1 h"}, evening)


SECONDS = st.integers(1, 40).map("{} s".format)
ANY = st.one_of(
    st.builds(lambda n, d: hold(n, d), st.integers(1, 50), SECONDS),
    st.builds(lambda n, d: {"jump": {"to": n, "for": d}}, st.integers(0, 50), SECONDS),
    st.builds(lambda n, d: {"ramp": {"to": n, "over": d}}, st.integers(0, 50), SECONDS),
    st.builds(
        lambda n, b, d: {"climb": {"to": n, "by": b, "every": d}}, st.integers(0, 50), st.integers(1, 9), SECONDS
    ),
    st.builds(lambda d: {"hold": {"for": d}}, SECONDS),
    st.builds(lambda d: {"wait": d}, SECONDS),
)


@given(st.lists(ANY, max_size=6))
def test_every_load_ends_where_the_next_sentence_begins_and_is_read_back(load: list[Sentence]) -> None:
    plan = plan_of(hold(1, "1 s"), *load)
    profile = plan.people[0].profile
    assert document.from_document(document.to_document(plan)).people[0].profile == profile
    ordered = plan.planned
    whole = int(profile.duration_s)
    assert ordered.mean_users(whole).sum() == pytest.approx(profile.area, rel=1e-9, abs=1e-6)


@given(st.lists(ANY, max_size=4), st.integers(1, 50), st.integers(2, 60), st.data())
def test_a_hold_in_two_parts_is_the_same_load(
    before: list[Sentence], users: int, seconds: int, data: st.DataObject
) -> None:
    cut = data.draw(st.integers(1, seconds - 1))
    whole = plan_of(*before, hold(users, f"{seconds} s"))
    parted = plan_of(*before, hold(users, f"{cut} s"), {"hold": {"for": f"{seconds - cut} s"}})
    assert parted.planned.levels() == whole.planned.levels()
    assert parted.people[0].profile.area == whole.people[0].profile.area


@given(st.lists(ANY, max_size=5), st.integers(2, 4))
def test_a_load_stretched_is_the_same_one_later(load: list[Sentence], times: int) -> None:
    plan = plan_of(hold(3, "10 s"), *load)
    _ = plan.planned  # reckoned once before: it must not stay
    longer = stretched(plan, times)
    assert longer.planned.duration_s == pytest.approx(times * plan.planned.duration_s)
    assert np.array(longer.planned.corners()) == pytest.approx(np.array(plan.planned.corners()) * [times, 1, 1])


def test_gatherings_groups_and_searches_are_stretched_as_they_are_told() -> None:
    morning = {"gather": {"users": 40, "within": "4 min", "stay": "2 min"}}
    groups = [
        {"name": "come", "users": [morning]},
        {"name": "call", "arrivals": [{"hold": {"rate": 2, "for": "3 min"}}]},
    ]
    longer = document.to_document(stretched(plan_of(groups=groups), 2))["groups"]
    assert longer[0]["users"] == [{"gather": {"users": 40, "within": "8 min", "stay": "4 min"}}]
    assert longer[1]["arrivals"] == [{"hold": {"rate": 2.0, "for": "6 min"}}]
    search = plan_of(SEARCH, objectives=[GOAL])
    assert stretched(search, 2) is search


GOAL = {"p95": "800 ms"}
SEARCH = {"search": {"to": 400, "within": "10 min"}}


def test_a_search_says_the_most_it_may_come_to() -> None:
    plan = plan_of({"search": {"from": 5, "to": 400, "within": "10 min", "precision": "5 %"}}, objectives=[GOAL])
    assert plan.search is not None
    assert (plan.search.start, plan.search.end, plan.search.precision) == (5, 400, 0.05)
    assert (plan.planned.peak_users, plan.planned.duration_s) == (400, 600)
    assert document.from_document(document.to_document(plan)) == plan


def test_a_search_is_parted_among_regions() -> None:
    group = {"name": "all", "users": [SEARCH], "regions": {"north": 3, "south": 1}}
    plan = plan_of(groups=[group], objectives=[GOAL])
    assert [part.portion for part in plan.people] == [0.75, 0.25]
    assert plan.planned.peak_users == 400


@pytest.mark.parametrize(
    ("told", "path", "part"),
    [
        ({"load": [SEARCH]}, "load[0].search", "a search needs an objective"),
        ({"load": [hold(5, "1 min"), SEARCH], "objectives": [GOAL]}, "load[1]", "leads the whole load"),
        (
            {"load": [{"search": {"from": 9, "to": 9, "within": "10 min"}}], "objectives": [GOAL]},
            "load[0].search",
            "nothing to search between",
        ),
        (
            {"load": [{"search": {"to": 90, "within": "5 s"}}], "objectives": [GOAL]},
            "load[0].search.within",
            "greater than or equal to 60",
        ),
        (
            {"load": [{"search": {"to": 90, "within": "5 min", "precision": "1 %"}}], "objectives": [GOAL]},
            "load[0].search.precision",
            "greater than or equal to 0.02",
        ),
        (
            {
                "groups": [{"name": "a", "users": [SEARCH]}, {"name": "b", "users": [hold(5, "1 min")]}],
                "objectives": [GOAL],
            },
            "groups",
            "no other group can go",
        ),
        (
            {"groups": [{"name": "a", "users": [SEARCH], "journeys_each": 3}], "objectives": [GOAL]},
            "groups[0].journeys_each",
            "as long as the search needs",
        ),
        (
            {"groups": [{"name": "a", "users": [SEARCH], "mix": {"Look": "4 users"}}], "objectives": [GOAL]},
            "groups[0].mix",
            "how many users it will have",
        ),
    ],
)
def test_a_search_that_cannot_be_says_what_is_wrong(told: Sentence, path: str, part: str) -> None:
    with pytest.raises(PlanError) as refused:
        plan_of(**told)
    found = [problem for problem in refused.value.problems if problem.path == path]
    assert any(part in problem.message for problem in found), refused.value.problems
