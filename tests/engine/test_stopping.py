"""Stop rules and budgets: what ends a run early, when, and what it says of it; in rehearsals and as generators tell."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from stonekettle.core.run_data import ResourceSeries
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.rehearsal import Rehearsed, rehearse
from stonekettle.engine.signals import Lost, Told, Verb
from stonekettle.engine.stopping import LATE_S, Asked, strategies_of
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import journeys_of

CLIMB = [{"climb": {"from": 20, "to": 200, "by": 20, "every": "20 s"}}]
SHOP = PracticeConfig(
    (Component("shop", cpus=2, refuse_over=40),),
    (Route("GET", "/", (Visit("shop", 20),)), Route("GET", "/pay", (Visit("shop", 20),))),
)
"""Full at 100 steps/s; beyond 140 users it refuses."""


def plan_of(**more: Any) -> Plan:
    steps = [
        {"name": n, "request": f"GET {p}", "think": "exponential 1 s"} for n, p in (("look", "/"), ("pay", "/pay"))
    ]
    system = {"name": "s", "base_url": "http://127.0.0.1:1", **more.pop("system", {})}
    return document.from_document(
        {"name": "p", "system": system, "journeys": [{"name": "Buy", "steps": steps}], "load": CLIMB, **more}
    )


def played(**more: Any) -> Rehearsed:
    plan = plan_of(**more)
    return rehearse(plan, SHOP, journeys_of(plan), seed=4)


def test_errors_over_a_limit_end_the_run_and_say_so() -> None:
    found = played(stop_when=[{"errors": "5 %", "for": "10 s"}])
    assert found.end.state == RunState.STOPPED
    assert found.end.cause.startswith("Stopped by the plan: ")
    assert "% of all steps failed over 10 s, and more than 5 % end the run" in found.end.cause
    assert 130 <= found.ordered.duration_s <= 175  # the level of 140 or 160 users, ten seconds in
    assert found.ordered.orders[-1].haste


def test_slow_answers_end_it_too() -> None:
    found = played(stop_when=[{"step": "pay", "response": "100 ms", "for": "10 s"}])
    assert "pay took 0." in found.end.cause
    assert 85 <= found.ordered.duration_s <= 150  # it queues from 102 users on


METERED = {"components": [{"name": "shop", "meter": {"openmetrics": "http://127.0.0.1:1/metrics"}}]}


def test_a_full_resource_ends_it() -> None:
    found = played(system=METERED, stop_when=[{"resource": "shop.cpu", "utilisation": "80 %", "for": "10 s"}])
    assert found.end.state == RunState.STOPPED
    assert "shop.cpu was 8" in found.end.cause
    assert "more than 80 % ends the run" in found.end.cause
    assert 70 <= found.ordered.duration_s <= 105  # 80 users bring 78 % of it, 100 nearly all


def test_what_stays_within_the_rules_runs_to_its_end() -> None:
    found = played(stop_when=[{"errors": "90 %"}, {"response": "9 s"}], budget={"time": "1 h"})
    assert found.end.state == RunState.FINISHED


def test_a_budget_of_time_or_of_money_ends_it() -> None:
    assert played(budget={"time": "45 s"}).ordered.duration_s == pytest.approx(45, abs=1)
    prices = {
        "currency": "CHF",
        "components": [{"name": "shop", "instances": 3, "instance_type": {"price_per_hour": 12}}],
    }
    found = played(system=prices, budget={"money": 0.5, "time": "1 h"})
    assert found.end.cause == "Stopped by the plan: its budget of 0.5 CHF is spent."
    assert found.ordered.duration_s == pytest.approx(50, abs=1)


def told(generator: str, second: int, completed: int, errors: int = 0, **more: float) -> Told:
    counts = {"completed": [completed, 0], "errors": [errors, 0], "response_sum_s": [more.get("sum_s", 0.0), 0.0]}
    return Told(generator, {"second": second, **counts, **more})


def test_all_generators_are_judged_together_and_late_ones_are_waited_for() -> None:
    (rule,) = strategies_of(plan_of(stop_when=[{"errors": "50 %", "for": "2 s"}]))
    assert not list(rule.advise(1, [told("a", 0, 10, 10), told("b", 0, 10)]))
    assert not list(rule.advise(2, [told("a", 1, 10, 10)]))  # b has yet to tell
    assert not list(rule.advise(3, [told("b", 1, 30)]))
    assert not list(rule.advise(3, [told("a", 2, 40, 40)]))
    (wish,) = rule.advise(4, [told("b", 2, 10)])
    assert (wish.verb, wish.why) == (
        Verb.STOP,
        "55.6 % of all steps failed over 2 s, and more than 50 % end the run",
    )
    assert not list(rule.advise(5, [told("a", 3, 9, 9), told("b", 3, 9, 9)]))  # said once


def test_a_resource_is_judged_where_it_was_known_and_over_the_whole_time() -> None:
    rules = [{"resource": "shop.cpu", "utilisation": "90 %", "for": "4 s"}]
    plan = plan_of(system=METERED, stop_when=rules)
    (rule,) = strategies_of(plan)
    asked = Asked.by(plan)
    assert asked == Asked(("shop.cpu",), 4 + LATE_S)

    def wishes(*busy: float | None) -> list[str]:
        values = np.array([math.nan if one is None else one for one in busy])
        series = ResourceSeries("shop", "cpu", "cpu", np.ones(values.size), values)
        return [wish.why for wish in rule.advise(9, [asked.of([series])])]

    assert not wishes(1, 1, 1)  # not for as long yet
    assert not wishes(1, 1, 1, 0.5)
    assert not wishes(1, 1, None, None, None, 1, None)  # known too little
    assert not list(rule.advise(9, []))
    assert wishes(0, 1, None, 0.9, 1, None) == ["shop.cpu was 96.7 % busy over 4 s, and more than 90 % ends the run"]
    assert not wishes(1, 1, 1, 1)  # said once


def test_generators_that_are_late_end_it_where_the_plan_says_so() -> None:
    (rule,) = strategies_of(plan_of(stop_when=[{"blur": "20 %", "for": "2 s"}]))
    assert not list(rule.advise(1, [told("a", 0, 9, users=10, overdue=1, blind=1), told("a", 1, 9, users=10)]))
    (wish,) = rule.advise(3, [told("a", 2, 9, users=10, overdue=3, blind=1.5)])
    assert wish.why == "the generators were late with 22.5 % of the users over 2 s, and more than 20 % end the run"


def test_a_lost_generator_is_not_waited_for() -> None:
    (rule,) = strategies_of(plan_of(stop_when=[{"errors": "50 %", "for": "1 s"}]))
    assert not list(rule.advise(1, [told("a", 0, 10), told("b", 0, 10)]))
    assert not list(rule.advise(2, [told("a", 1, 10, 9)]))
    assert list(rule.advise(9, [Lost("b", "killed")]))


def test_a_system_that_answers_nobody_is_slow() -> None:
    (rule,) = strategies_of(plan_of(stop_when=[{"response": "5 s", "for": "2 s"}]))
    assert not list(rule.advise(1, [told("a", 0, 0), told("a", 1, 0)]))  # nobody is there
    assert not list(rule.advise(3, [told("a", 2, 0, in_flight=8)]))
    (wish,) = rule.advise(4, [told("a", 3, 0, in_flight=8)])
    assert wish.why == "nobody was answered for 2 s, and over 5 s end the run"


@pytest.mark.parametrize(
    ("more", "path", "part"),
    [
        ({"stop_when": [{"for": "9 s"}]}, "stop_when[0]", "one of errors, a response time, a resource"),
        ({"stop_when": [{"errors": "9 %", "for": "500 ms"}]}, "stop_when[0].for", "greater than or equal to 1"),
        ({"stop_when": [{"step": "pai", "errors": "9 %"}]}, "stop_when[0].step", "no step named 'pai'"),
        ({"stop_when": [{"resource": "shop.cpu"}]}, "stop_when[0]", "a resource with its utilisation"),
        ({"stop_when": [{"errors": "9 %", "blur": "9 %"}]}, "stop_when[0]", "one of errors"),
        ({"stop_when": [{"step": "pay", "blur": "9 %"}]}, "stop_when[0]", "about no step"),
        ({"stop_when": [{"resource": "shp.cpu", "utilisation": "9 %"}]}, "stop_when[0].resource", "of no component"),
        ({"budget": {"money": 5}}, "budget.money", "no component of 's' has a price"),
        ({"budget": {"time": "0 s"}}, "budget.time", "greater than 0"),
    ],
)
def test_rules_that_say_nothing_are_refused(more: dict[str, Any], path: str, part: str) -> None:
    with pytest.raises(PlanError) as caught:
        plan_of(**more)
    assert any(p.path == path and part in p.message and p.mend for p in caught.value.problems), caught.value.problems
