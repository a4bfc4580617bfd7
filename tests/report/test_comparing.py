"""Two runs in words: what changed, what goes with it, what could have been seen, and what differs between them."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest

from stonekettle.core import analysis
from stonekettle.core.comparing import compare
from stonekettle.core.differences import Comparison
from stonekettle.core.facts import gather
from stonekettle.core.load_profile import LoadProfile
from stonekettle.core.orders import as_planned
from stonekettle.core.pooling import compare_sides
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.twin import simulate
from stonekettle.report import comparing
from stonekettle.report.comparing import Side
from tests.conftest import PLAN_TEXT, climb, one_server_system, visits

PLAN = document.read(
    PLAN_TEXT.format(base="http://127.0.0.1:9", metrics="http://127.0.0.1:9/m", think="1 s", users=5, hold="20 s")
)
CLIMB = climb(20, 140, 20, 60)


def played(config: PracticeConfig, seed: int, profile: LoadProfile = CLIMB) -> tuple[Side, list[object]]:
    run = simulate(config, visits(1.0), profile, seed=seed)
    found = analysis.analyse(run, as_planned(profile), document.core_objectives(PLAN), 0.05)
    return Side(f"run {seed}", PLAN, found, False, "finished", 2), list(gather(run, found))


def compared(config: PracticeConfig, other: PracticeConfig) -> tuple[str, Comparison, Side, Side]:
    (first, facts), (second, others) = played(config, 1), played(other, 2)
    found = compare(facts, others, full_from=90)  # type: ignore[arg-type]
    return comparing.sentence(found, [first], [second]), found, first, second


def test_a_slower_system_is_told_with_its_step_its_limit_and_its_resource() -> None:
    text, *_ = compared(one_server_system(20, servers=2), one_server_system(25, servers=2))
    assert re.match(r"Slower: GET / (mean|p95|p50|p99) \+\d+ % \(\+\d+(\.\d)? % to \+\d+ %\); ", text), text
    assert re.search(r"saturation 10\d → 8\d users", text), text
    assert re.search(r"`shop` CPU per step (19|20)\.\d → 2[45]\.\d ms goes with it\.", text), text
    assert re.search(r"This pair could have shown \S+ % in a mean\.$", text), text
    assert compared(one_server_system(25, servers=2), one_server_system(20, servers=2))[0].startswith("Faster: ")


def test_like_systems_are_told_with_what_could_have_been_missed() -> None:
    text, *_ = compared(one_server_system(20, servers=2), one_server_system(20, servers=2))
    assert re.match(r"No difference: none of a step's mean larger than", text)


def changed(**more: object) -> Plan:
    return document.from_document({**document.to_document(PLAN), **more})


@pytest.mark.parametrize(
    ("first", "second", "told"),
    [
        ({}, {}, []),
        ({"simulated": True}, {}, ["warning: Run 1 was played in virtual time, the other one was measured."]),
        ({}, {"state": "stopped"}, ["warning: Run 2 ended as stopped."]),
        ({}, {"generators": 4}, ["harmless: Generators: 2 and 4."]),
        (
            {},
            {"plan": changed(load=[{"hold": {"users": 9, "for": "20 s"}}], notes="Once more.")},
            ["compared: Peak 5 → 9 users.", "harmless: Notes reworded."],
        ),
    ],
)
def test_what_differs_is_told_with_its_weight(
    first: dict[str, object], second: dict[str, object], told: list[str]
) -> None:
    one, _ = played(one_server_system(20, servers=2), 1, climb(20, 60, 20, 20))
    sides = replace(one, **first), replace(one, name="run 2", **second)  # type: ignore[arg-type]
    assert [f"{item.weight}: {item.text}" for item in comparing.apart(*([side] for side in sides))] == told


def test_what_differs_within_a_side_is_a_caution() -> None:
    (first, facts), (second, others), (third, more) = (played(one_server_system(20, servers=2), n) for n in (1, 2, 3))
    other = replace(third, plan=changed(name="Another"), simulated=True)
    told = comparing.apart([first], [second, other])
    assert all(one.weight == "warning" for one in told)
    assert any(one.text.startswith("On one side, run 2 and run 3: ") for one in told)
    found = compare_sides([facts], [others, more])  # type: ignore[list-item]
    assert "2 runs against 1 could have shown" in comparing.sentence(found, [first], [second, third])
