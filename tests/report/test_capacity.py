"""A capacity plan in words: each sentence is true of the study it tells of."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from typing import Any

import pytest

from stonekettle.core.capacity import Terms, Unplanned
from stonekettle.core.capacity_study import Case, Plan, Size, What
from stonekettle.core.known import Pool
from stonekettle.core.objectives import Objective
from stonekettle.core.serving import Peak, judged
from stonekettle.plan import capacity_document
from stonekettle.plan.capacity_document import CapacityPlan
from stonekettle.report import capacity as words
from tests.core.test_capacity import GOAL, known, two


def document(*peaks: tuple[str, float], **more: Any) -> CapacityPlan:
    told = [{"on": on, "load": load} for on, load in peaks]
    return capacity_document.from_document({"name": "p", "system": "s", "counted_in": "steps", "peaks": told, **more})


def about(told: CapacityPlan, instances: tuple[int, int], **more: Any) -> tuple[Case, words.About]:
    terms = Terms(Peak("rate", told.highest.load * (1 + told.headroom)), {"a": 0.1, "b": 0.37}, told.lost)
    knows = replace(known(two(), instances), **more)
    case = Case(knows, [GOAL], terms)
    return case, words.About(told, knows, terms, ["95 % of visit within 400 ms"], "EUR")


GROWS = (("2027-01-01", 20.0), ("2028-01-01", 120.0))


def test_what_is_there_is_enough_to_the_end() -> None:
    case, what = about(document(("2027-01-01", 30.0), ("2028-01-01", 40.0)), (3, 4))
    note = words.note(case.study(), what)
    assert (note.grade, note.title) == ("holds", "What is there is enough until 1 Jan 2028")
    assert "fewer" in note.text


def test_it_is_enough_until_the_day_on_which_the_load_passes_it() -> None:
    told = document(*GROWS)
    case, what = about(told, (2, 2))
    study = case.study()
    note = words.note(study, what)
    until = words.enough_until(told, study.now.carried)
    assert until is not None
    assert study.now.carried is not None
    assert told.load_on(until) <= study.now.carried < told.load_on(date.fromordinal(until.toordinal() + 1))
    assert note.grade == "strained"
    assert note.title.startswith(f"Enough until {words.day(until)}")
    assert "EUR an hour" in note.text


def test_single_instances_are_enough_only_while_none_is_lost() -> None:
    case, what = about(document(("2027-01-01", 10.0)), (1, 1))
    note = words.note(case.study(), what)
    assert note.title == "Enough as long as no instance is lost"
    assert "nothing with one instance lost" in note.text
    case, what = about(document(*GROWS), (1, 1))
    assert "as long as no instance is lost" in words.note(case.study(), what).title


def test_a_load_that_is_too_much_today_is_said_to_be() -> None:
    case, what = about(document(("2027-01-01", 200.0)), (1, 2))
    note = words.note(case.study(), what)
    assert note.grade == "broken"
    assert note.title.startswith("Not enough for 200 steps/s")
    assert any("Twice the peak" in line for line in note.details)


def test_where_no_number_is_enough_it_says_why() -> None:
    case, what = about(document(("2027-01-01", 20.0)), (1, 1))
    study = replace(case.study(), plan=Unplanned("light", 0))
    assert words.note(study, what).title == "No number of instances is enough"
    assert "95 % of visit within 400 ms" in words.note(study, what).text
    many = replace(study, plan=Unplanned("most", "a"))
    assert words.note(many, what).title == "More than 2000 instances of `a` would be needed"


def test_what_is_added_is_told_by_number_size_and_together() -> None:
    def plan(*counts: int, **sizes: Size) -> Plan:
        return Plan(counts, sizes, 1.0, None)

    parts, large = ("web", "store"), Size("store", "large", 2.0, 0.4)
    assert words.added(plan(1, 2), plan(2, 4), parts) == "one more `web` and two more `store`"
    assert words.added(plan(1, 3), plan(2, 4), parts) == "one more each of `web` and `store`"
    assert words.added(plan(3, 4), plan(2, 4), parts) == "one fewer `web`"
    assert words.added(plan(2, 4), plan(2, 4), parts) == ""
    assert words.added(plan(2, 4), plan(2, 2, store=large), parts) == "`store` as 2 × large"
    assert words.added(plan(2, 2, store=large), plan(2, 3, store=large), parts) == "one more `store`"
    assert words.added(plan(2, 2, store=large), plan(2, 3), parts) == "`store` as 3 × the size of now"


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ({"tested_rate": 10.0}, "2.00 times as many as were ever measured"),
        ({"light_use": 0.6}, "60 % busy already"),
        ({"left_out": ("a", "b", "c", "d", "e")}, "a, b, c, d and others"),
        ({"by_servers": False}, "guessed by how long it takes"),
    ],
)
def test_it_says_what_it_cannot_know(more: dict[str, Any], said: str) -> None:
    _, what = about(document(("2027-01-01", 20.0)), (1, 1), **more)
    assert any(said in line for line in words.unknown(what, 20.0))
    _, sure = about(document(("2027-01-01", 20.0)), (1, 1))
    assert not any(said in line for line in words.unknown(sure, 20.0))


def test_pools_do_not_come_with_instances() -> None:
    case, what = about(document(("2027-01-01", 60.0)), (1, 1), pools=(Pool("b.connections", "b", 4.0, 0.06),))
    (line,) = words.pools(case.study(), what)
    # 60 steps a second hold a place for 60 ms each, 3.6 of 4, and for the waits behind it.
    assert line.startswith("`b` connections: 9")
    assert "Give it 5 or more" in line


def test_otherwise_is_told_in_words() -> None:
    plan = Plan((1, 1), {}, 1.0, None)
    assert words.otherwise(What("think", "", plan, True)) == "People think half as long"
    assert words.otherwise(What("mix", "Buy", plan, True)) == "10 % more of the steps are Buy"


def test_costs_without_prices_are_instances() -> None:
    _, what = about(document(("2027-01-01", 20.0)), (1, 1))
    assert replace(what, currency=None).money(6.0) == "6 instances"
    assert what.money(2.0) == "2.00 EUR an hour, 1 460 EUR a month"


def test_goals_of_errors_are_not_foretold() -> None:
    steps = two().steps
    assert judged(GOAL, steps)
    assert not judged(Objective(2, "errors", 0.01), steps)
