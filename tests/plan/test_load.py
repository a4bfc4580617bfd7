"""Groups, their segments and their mix, and the short form."""

from __future__ import annotations

from typing import Any

import pytest

from stonekettle.plan import document
from stonekettle.plan.load import EVERYONE, ArrivalGroup, UserGroup
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError

LOOK = {"name": "Look", "weight": 3, "steps": [{"name": "home", "request": "GET /", "think": "1 s"}]}
BUY = {"name": "Buy", "steps": [{"name": "order", "request": "POST /", "think": "2 s"}]}
SHORT = [{"climb": {"from": 10, "to": 40, "by": 10, "every": "20 s"}}, {"ramp": {"from": 40, "to": 0, "over": "10 s"}}]
VISITORS = {"name": "visitors", "users": SHORT}
CALLERS = {"name": "callers", "arrivals": [{"hold": {"rate": "300 /min", "for": "50 s"}}]}


def plan_of(**load: Any) -> Plan:
    return document.from_document(
        {"name": "p", "system": {"name": "s", "base_url": "http://127.0.0.1:1"}, "journeys": [LOOK, BUY], **load}
    )


def problems(**load: Any) -> list[str]:
    with pytest.raises(PlanError) as caught:
        plan_of(**load)
    return [f"{problem.path}: {problem.message}" for problem in caught.value.problems]


def test_the_short_form_is_one_group_of_everybody() -> None:
    plan = plan_of(load=SHORT)
    (group,) = plan.people
    assert isinstance(group, UserGroup)
    assert group.name == EVERYONE
    assert plan.weights_of(group) == (3, 1)
    assert plan.planned.peak_users == 40
    assert plan.planned.duration_s == 90


def test_people_of_several_regions_are_parted_by_their_shares() -> None:
    plan = plan_of(groups=[{**VISITORS, "regions": {"north": 60, "south": 40}}, {**CALLERS, "regions": {"south": 1}}])
    assert document.from_document(document.to_document(plan)) == plan
    assert [(g.name, g.region, g.profile.peak) for g in plan.people] == [
        ("visitors from north", "north", 24),
        ("visitors from south", "south", 16),
        ("callers from south", "south", 5),
    ]
    assert plan.planned.peak_users == 40


def test_a_region_or_several_and_no_counts_in_them() -> None:
    both = {**VISITORS, "region": "north", "regions": {"south": 1}}
    counted = {**VISITORS, "mix": {"Buy": "5 users"}, "regions": {"south": 1}}
    assert problems(groups=[both]) == ["groups[0]: a group comes from one region or from several."]
    assert problems(groups=[counted]) == ["groups[0]: counts of users cannot be shared among regions."]


def test_groups_are_read_back_as_they_were_written() -> None:
    whole = {
        **VISITORS,
        "mix": {"Look": 2, "Buy": "5 users"},
        "region": "north",
        "network": {"down": "8 Mbit/s", "up": "500 kbit/s"},
        "journeys_each": 4,
        "leave": "after the journey",
    }
    plan = plan_of(groups=[whole, {**CALLERS, "law": "even", "at_most": 30}], generators={"when_lost": "end"})
    assert document.from_document(document.to_document(plan)) == plan
    visitors, callers = plan.people
    assert visitors.network.down == 8e6
    assert plan.weights_of(visitors) == (2, 0)
    assert isinstance(callers, ArrivalGroup)
    assert callers.profile.peak == 5
    assert plan.planned.arrivals == {"callers"}
    assert document.to_document(plan)["groups"][0]["mix"] == {"Look": 2.0, "Buy": {"users": 5}}


@pytest.mark.parametrize(
    ("load", "told"),
    [
        ({}, "document: a plan needs exactly one of load and groups."),
        ({"load": SHORT, "groups": [VISITORS]}, "document: a plan needs exactly one of load and groups."),
        ({"groups": [{"name": "x"}]}, "groups[0]: a group needs exactly one of users and arrivals."),
        ({"groups": [VISITORS, VISITORS]}, "groups: the name 'visitors' is used more than once."),
        ({"groups": [{**VISITORS, "mix": {"Bye": 1}}]}, "groups[0].mix: there is no journey named 'Bye'."),
        (
            {"groups": [{**VISITORS, "mix": {"Buy": -1}}]},
            "groups[0].mix.Buy: -1 is neither a share nor a count of users.",
        ),
        (
            {"groups": [{**VISITORS, "mix": {"Buy": "5 users"}}]},
            "groups[0].mix: the mix counts 5 users, the load reaches 40.",
        ),
        ({"groups": [{**CALLERS, "mix": {"Buy": "5 users"}}]}, "groups[0].mix: who arrives is not counted beforehand."),
        (
            {"groups": [{"name": "x", "arrivals": [{"hold": {"rate": "fast", "for": "1 s"}}]}]},
            "groups[0].arrivals[0].hold.rate: 'fast' is not a rate.",
        ),
        (
            {"groups": [{"name": "x", "users": [{"hold": {"users": 0, "for": "9 s"}}]}]},
            "groups[0]: the load never reaches one user.",
        ),
        (
            {"groups": [{"name": n, "users": [{"hold": {"users": 30_000, "for": "9 s"}}]} for n in "ab"]},
            "groups: the load reaches 60000 users and 0 arrivals per second in all.",
        ),
        ({"groups": [{**VISITORS, "network": {"down": "8"}}]}, "groups[0].network.down: '8' is not a speed of a line."),
    ],
)
def test_what_cannot_be_is_refused_with_its_place(load: dict[str, Any], told: str) -> None:
    assert told in problems(**load)
