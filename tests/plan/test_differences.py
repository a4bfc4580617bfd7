"""What was changed between two plans, said as a reader would say it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from stonekettle.plan import document
from stonekettle.plan.checking import parse
from stonekettle.plan.differences import WORDING, differences
from stonekettle.plan.models import Plan

QUICK = (Path(__file__).parents[2] / "examples" / "quick.yaml").read_text()
GOALS = parse(QUICK)["objectives"]  # type: ignore[index]
GROUPS = [
    {"name": "visitors", "users": [{"hold": {"users": 5, "for": "9 s"}}]},
    {"name": "callers", "arrivals": [{"hold": {"rate": 5, "for": "9 s"}}]},
]


def plan(**changed: Any) -> Plan:
    told = {**parse(QUICK), **changed}  # type: ignore[dict-item]
    if "groups" in changed:
        told.pop("load")
    return document.from_document(told)


def test_a_plan_does_not_differ_from_itself() -> None:
    assert differences(plan(), plan()) == (WORDING,)


@pytest.mark.parametrize(
    ("changed", "told"),
    [
        ({"name": "Long look"}, ["name Quick look → Long look"]),
        ({"load": [{"hold": {"users": 200, "for": "1 min"}}]}, ["length 1.4 min → 1 min", "peak 180 → 200 users"]),
        ({"load": [{"hold": {"users": 180, "for": "84 s"}}]}, ["load shaped differently"]),
        (
            {"objectives": [{"step": "Trip search", "p95": "800 ms"}, {"errors": "2 %"}, {"p99": "3 s"}]},
            [
                "objective of Trip search, p95 1 s → 800 ms",
                "objective of all requests, errors 1 % → 2 %",
                "objective of all requests, p99 added: 3 s",
                "objective of Departures board, p95 removed",
                "objective of Buy ticket, p95 removed",
            ],
        ),
        (
            {
                "objectives": [
                    *GOALS,
                    {"step": "Home page", "mean": "800 ms", "role": "for information"},
                    {"apdex": 0.9, "target": "500 ms"},
                    {"throughput": "300 /min"},
                ]
            },
            [
                "objective of Home page, mean added: 800 ms, for information",
                "objective of all requests, Apdex added: 0.9 at T = 500 ms",
                "objective of all requests, throughput added: 5 /s",
            ],
        ),
        ({"error_limit": "10 %"}, ["error limit 5 % → 10 %"]),
        ({"waits": {"factor": 0.5}}, ["think times as the journeys say → times 0.5"]),
        ({"hypothesis": "The ledger.", "tags": ["spring"]}, ["hypothesis reworded", "tags none → spring"]),
        (
            {"stop_when": [{"errors": "20 %", "for": "30 s"}], "budget": {"time": "5 min"}},
            ["stop rule added: all steps over 20 % errors for 30 s", "budget none → 5 min"],
        ),
        (
            {"stop_when": [{"resource": "ledger.cpu", "utilisation": "95 %"}, {"blur": "20 %", "for": "1 min"}]},
            ["stop rule added: ledger.cpu over 95 % busy for 10 s", "stop rule added: blur over 20 % for 1 min"],
        ),
        ({"generators": {"when_lost": "end"}}, ["when a generator is lost take over → end"]),
    ],
)
def test_every_change_is_told(changed: dict[str, Any], told: list[str]) -> None:
    assert list(differences(plan(), plan(**changed))) == told


def test_journeys_and_feeds_are_told_by_their_names() -> None:
    journeys = [dict(journey) for journey in parse(QUICK)["journeys"]]  # type: ignore[index, call-overload]
    journeys[0]["weight"] = 60
    journeys[1]["steps"] = journeys[1]["steps"][1:]
    added = {"name": "Wait", "steps": [{"name": "w", "request": "GET /"}]}
    told = differences(plan(), plan(journeys=[*journeys, added]))
    assert told == (
        "weight of Check departures 50 → 60",
        "journey Wait added",
        "journey Plan a trip described differently",
    )


def test_groups_are_told_each_by_itself() -> None:
    network = {"down": "8 Mbit/s"}
    changed = [
        {**GROUPS[0], "region": "north", "network": network, "mix": {"Plan a trip": 2}},
        {**GROUPS[1], "law": "even", "arrivals": [{"hold": {"rate": 7.5, "for": "9 s"}}]},
    ]
    assert differences(plan(groups=GROUPS), plan(groups=changed)) == (
        "mix of visitors the journeys' weights → 2 Plan a trip",
        "region of visitors any → north",
        "network of visitors unlimited → 8 Mbit/s down",
        "peak of callers 5 → 7.5/s",
        "spacing of arrivals of callers poisson → even",
    )
    assert differences(plan(groups=GROUPS), plan(groups=GROUPS[:1])) == ("group callers removed",)
    swapped = [GROUPS[0], {"name": "callers", "users": [{"hold": {"users": 5, "for": "9 s"}}]}]
    assert differences(plan(groups=GROUPS), plan(groups=swapped)) == ("people of callers are counted in users now",)


def test_naming_the_one_group_changes_nothing_of_its_load() -> None:
    load = parse(QUICK)["load"]  # type: ignore[index, call-overload]
    assert differences(plan(), plan(groups=[{"name": "all", "users": load}])) == (WORDING,)


def test_a_component_is_told_by_what_became_of_it() -> None:
    system = parse(QUICK)["system"]  # type: ignore[index]

    def described(**changed: object) -> Plan:
        gateway, *others = system["components"]  # type: ignore[index, call-overload]
        return plan(system={**system, "components": [{**gateway, **changed}, *others]})  # type: ignore[dict-item]

    new = described(version="2.1", instances=3, instance_type={"name": "harbour-4", "vcpus": 4})
    assert differences(plan(), new) == (
        "gateway version not told → 2.1",
        "gateway instance type not told → harbour-4",
        "gateway instances 1 → 3",
    )
    without = plan(system={**system, "components": system["components"][1:]})  # type: ignore[dict-item, index, call-overload]
    assert differences(plan(), without) == ("component gateway removed",)
    assert differences(without, plan()) == ("component gateway added",)
    larger = described(instance_type={"name": "harbour-4", "vcpus": 8})
    assert differences(described(instance_type={"name": "harbour-4", "vcpus": 4}), larger) == (
        "system Quillport Tramways described differently",
    )
