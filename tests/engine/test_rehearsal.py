"""Rehearsals: plans led against twins, of the practice system and of what a run measured of one."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from stonekettle.core import analysis
from stonekettle.core.saturation import Saturation
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.rehearsal import Rehearsed, rehearse
from stonekettle.engine.script import cells_of
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice import config, measured
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.truth import compute, mix_of
from stonekettle.practice.twin import journeys_of

QUICK = Path(__file__).parents[2] / "examples" / "quick.yaml"
LOOK = {"name": "Look", "weight": 3, "steps": [{"name": "home", "request": "GET /", "think": "exponential 1 s"}]}
BUY = {
    "name": "Buy",
    "steps": [
        {"name": "pick", "request": "GET /tickets/new", "think": "exponential 1 s"},
        {"name": "pay", "request": "POST /tickets", "think": "exponential 1 s"},
    ],
}


def plan_of(*groups: dict[str, Any]) -> Plan:
    system = {"name": "s", "base_url": "http://127.0.0.1:1"}
    return document.from_document({"name": "p", "system": system, "journeys": [LOOK, BUY], "groups": list(groups)})


def played(plan: Plan, seed: int = 1) -> Rehearsed:
    return rehearse(plan, config.quillport(), journeys_of(plan), seed=seed)


def test_a_rehearsal_goes_as_planned_and_ends_as_a_run_does() -> None:
    plan = document.read(QUICK.read_text())
    found = played(plan)
    assert (found.end.state, found.end.cause) == (RunState.FINISHED, "The load profile ran to its end.")
    assert [give.order for give in found.given] == list(plan.planned.orders)
    assert [move.state for _, move in found.moves] == [RunState.RUNNING, RunState.DRAINING, RunState.ANALYSING]
    users = found.twin.present([0])
    ordered = plan.planned.mean_users(found.twin.seconds)
    assert np.abs(users - ordered).max() <= np.maximum(1, 0.01 * ordered).max()


def test_each_group_does_what_its_mix_says() -> None:
    hold = {"hold": {"users": 20, "for": "60 s"}}
    plan = plan_of(
        {"name": "buyers", "users": [hold], "mix": {"Buy": 1}},
        {"name": "both", "users": [hold], "mix": {"Look": "5 users", "Buy": 1}},
        {"name": "callers", "arrivals": [{"hold": {"rate": 5, "for": "60 s"}}], "law": "even", "mix": {"Look": 1}},
    )
    twin = played(plan).twin
    done = np.array(twin.done)
    by_group = [set(done[done[:, 7] == group, 3].astype(int)) for group in range(3)]
    assert by_group == [{1, 2}, {0, 1, 2}, {0}]
    both = done[done[:, 7] == 1]
    assert len({int(user) for user in both[both[:, 3] == 0, 5]}) == 5
    moments = np.array([t for t, _ in twin.arrived])
    assert np.diff(moments) == pytest.approx(0.2, abs=1e-6)


def test_a_rehearsal_ends_once_everybody_has_done_their_rounds() -> None:
    hold = {"hold": {"users": 12, "for": "10 min"}}
    found = played(plan_of({"name": "four rounds", "users": [hold], "journeys_each": 4, "mix": {"Look": 1}}))
    assert "Everybody has done all their journeys" in found.end.cause
    assert found.ordered.duration_s < 60
    visits = {}
    for *_, user, visit, _ in found.twin.done:
        visits[user] = visit
    assert list(visits.values()) == [4] * 12
    assert len(found.twin.journeys_done) == 48


def test_people_who_gather_are_others_all_the_time() -> None:
    found = played(plan_of({"name": "rush", "users": [{"gather": {"users": 60, "within": "60 s", "stay": "20 s"}}]}))
    assert 55 <= found.twin.came <= 66
    assert found.twin.present([0]).max() == pytest.approx(20, abs=1)


def test_a_twin_of_what_was_measured_is_full_where_the_system_was() -> None:
    """A run far below its limit tells the demands; the twin made of them finds the limit that the truth has."""
    system = PracticeConfig(
        (Component("shop", cpus=2), Component("stock", cpus=4, disks=1, pool=30)),
        (
            Route("GET", "/", (Visit("shop", 5),)),
            Route("GET", "/tickets/new", (Visit("shop", 5), Visit("stock", 10))),
            Route("POST", "/tickets", (Visit("shop", 6), Visit("stock", 60, disk_ms=6))),
        ),
    )
    climb = {"climb": {"from": 20, "to": 80, "by": 20, "every": "60 s"}}
    light = plan_of({"name": "all", "users": [climb]})
    found = rehearse(light, system, journeys_of(light), seed=3)
    told = analysis.analyse(found.twin.collected(), found.ordered, (), 0.05)
    known = measured.system_of(told, cells_of(light))
    assert known is not None
    assert {(r.component, r.kind) for r in known.resources} == {
        ("shop", "cpu"), ("stock", "cpu"), ("stock", "disk"), ("stock", "pool"),
    }  # fmt: skip
    whole = plan_of({"name": "all", "users": [{"climb": {"from": 20, "to": 400, "by": 20, "every": "20 s"}}]})
    twin, journeys = measured.twin_of(whole, known)
    again = rehearse(whole, twin, journeys, seed=5)
    point = analysis.analyse(again.twin.collected(), again.ordered, (), 0.05)
    assert isinstance(point.saturation, Saturation)
    assert point.saturation.load is not None
    truth = compute(system, *mix_of(journeys_of(whole)))
    assert point.saturation.load.value == pytest.approx(truth.users, rel=0.15)
    assert point.limiting.resource.key == "stock.cpu"  # type: ignore[union-attr]


def test_nothing_is_made_of_a_run_that_knows_no_demands() -> None:
    plan = plan_of({"name": "all", "users": [{"hold": {"users": 5, "for": "60 s"}}]})
    unseen = PracticeConfig(
        (Component("shop", cpus=2, metered=False),),
        tuple(Route(*name.split(), (Visit("shop", 5),)) for name in ("GET /", "GET /tickets/new", "POST /tickets")),  # type: ignore[arg-type]
    )
    found = rehearse(plan, unseen, journeys_of(plan))
    told = analysis.analyse(found.twin.collected(), found.ordered, (), 0.05)
    assert measured.system_of(told, cells_of(plan)) is None
