"""Plans: against all plans there are, against how they turn out in the twin, and what is said where there is none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import product
from math import inf

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from stonekettle.cli.bench.capacity import examine
from stonekettle.core.capacity import FULLEST, Planner, Terms, Unplanned
from stonekettle.core.capacity_study import Case, Plan, Size, shifted
from stonekettle.core.known import Known
from stonekettle.core.objectives import Objective
from stonekettle.core.serving import Peak, Serving, Station, Step, System
from stonekettle.core.types import CoreInputError
from tests.core.test_serving import exponential, system

PRICES = {"a": 0.1, "b": 0.37}
GOAL = Objective(1, "response", 0.4, 95.0)


def two(light_s: float = 0.06, error: float = 0.02) -> System:
    stations = [Station("a.cpu", "a", 2, 0.02, error), Station("b.cpu", "b", 2, 0.04, error)]
    return system(stations, light_s, think_s=1.0)


def known(own: System, instances: Sequence[int] = (1, 1)) -> Known:
    return Known(own, dict(zip(own.parts, instances, strict=True)), (), 100, 90.0, 0.1, (), True)


@pytest.mark.parametrize(("users", "lost", "limit_s"), [(100, 1, 0.4), (300, 1, 0.25), (300, 0, 0.22), (150, 2, 0.3)])
def test_a_plan_costs_what_the_cheapest_of_all_does(users: int, lost: int, limit_s: float) -> None:
    serving = Serving(two(), [replace(GOAL, limit=limit_s)])
    planner = Planner(serving, Terms(Peak("users", users), PRICES, lost))
    found = planner.plan()
    assert not isinstance(found, Unplanned)
    assert planner.holds(found)
    every = [counts for counts in product(range(1, 16), repeat=2) if min(counts) > lost and planner.holds(counts)]
    assert planner.cost(found) == pytest.approx(min(planner.cost(counts) for counts in every))


def test_nothing_is_fuller_than_it_may_be_with_one_lost() -> None:
    planner = Planner(Serving(two(), []), Terms(Peak("rate", 200.0), PRICES))
    counts = planner.plan()
    assert not isinstance(counts, Unplanned)
    use = planner.serving.served(Peak("rate", 200.0), planner.worst(counts)).utilisation
    assert np.quantile(use.max(axis=1), 0.9) <= FULLEST
    one_less = tuple(count - 1 for count in counts)
    assert not planner.holds(one_less)


@settings(max_examples=12, deadline=None)
@given(users=st.integers(20, 600), more=st.floats(1.05, 2.0))
def test_a_higher_load_never_takes_less(users: int, more: float) -> None:
    plans = [Planner(Serving(two(), [GOAL]), Terms(Peak("users", load), {})).plan() for load in (users, users * more)]
    first, second = ((inf,) if isinstance(plan, Unplanned) else plan for plan in plans)
    assert sum(first) <= sum(second)


def test_a_step_too_slow_by_itself_is_said_to_be() -> None:
    planner = Planner(Serving(two(light_s=0.2), [GOAL]), Terms(Peak("users", 50), PRICES))
    assert planner.plan() == Unplanned("light", 0)


def test_a_load_for_thousands_of_instances_has_no_plan() -> None:
    assert Planner(Serving(two(), []), Terms(Peak("rate", 1e6), {})).plan() == Unplanned("most", "a")


def test_ceilings_tell_what_gives_out_first_and_the_lowest_is_what_is_carried() -> None:
    planner = Planner(Serving(two(), []), Terms(Peak("rate", 80.0), PRICES, lost=0))
    first, second = planner.ceilings((1, 2))
    # 85 % of two servers over 20 ms, and of four over 40 ms, but for the demands' uncertainty.
    assert (first.component, second.component) == ("a", "b") or (first.component, second.component) == ("b", "a")
    assert first.load == pytest.approx(85 * 0.975, rel=0.02)
    assert second.load == pytest.approx(85 * 0.975, rel=0.02)
    carried = planner.carried((1, 2))
    assert carried is not None
    assert carried <= min(first.load or inf, second.load or inf) * 1.01


def test_components_that_could_be_lost_whole_carry_nothing() -> None:
    planner = Planner(Serving(two(), []), Terms(Peak("rate", 10.0), PRICES, lost=1))
    assert planner.carried((1, 3)) == 0.0
    assert not planner.holds((1, 3))


def test_terms_that_make_no_sense_are_refused() -> None:
    serving = Serving(two(), [])
    with pytest.raises(CoreInputError, match="peak: 0 is no load"):
        Planner(serving, Terms(Peak("users", 0), {}))
    with pytest.raises(CoreInputError, match="lost: -1"):
        Planner(serving, Terms(Peak("users", 5), {}, lost=-1))


def test_a_bigger_size_is_taken_where_it_is_cheaper_and_stands_beside_where_it_is_not() -> None:
    terms = Terms(Peak("rate", 150.0), PRICES)
    cheap, dear = Size("b", "b-big", 2.0, 0.4), Size("b", "b-big", 2.0, 4.0)
    bought = Case(known(two()), [GOAL], terms, [cheap]).study()
    assert isinstance(bought.plan, Plan)
    assert bought.plan.sizes == {"b": cheap}
    assert "as now" in [one.kind for one in bought.alternatives]
    left = Case(known(two()), [GOAL], terms, [dear]).study()
    assert isinstance(left.plan, Plan)
    assert left.plan.sizes == {}
    beside = next(one for one in left.alternatives if one.kind == "size")
    assert beside.plan.cost > left.plan.cost


def test_a_study_tells_now_and_twice_as_much_and_what_comes_next() -> None:
    study = Case(known(two(), (2, 2)), [GOAL], Terms(Peak("rate", 150.0), PRICES)).study()
    assert isinstance(study.plan, Plan)
    assert isinstance(study.doubled, Plan)
    assert study.doing is not None
    assert study.doubled.cost > study.plan.cost > study.now.cost
    assert not study.now_doing.holds
    assert study.doing.holds
    assert study.now.carried is not None
    assert study.now_whole is not None
    assert study.now.carried < study.now_whole < 150
    assert study.plan.carried is not None
    assert study.plan.carried >= 150 * 0.99
    assert study.ceilings[0].load == pytest.approx(study.plan.carried, rel=0.03)
    value = study.doing.judged_lost[0]
    assert value.low < value.value < value.high <= GOAL.limit * 1.05


def test_what_if_tells_what_each_change_would_take() -> None:
    light = exponential(0.06)
    steps = (
        Step("search / a", 0.5, light, np.array([2.0, 0.0]), np.array([2.0, 0.0])),
        Step("buy / b", 0.5, light, np.array([0.0, 2.0]), np.array([0.0, 2.0])),
    )
    own = replace(two(), steps=steps)
    case = Case(known(own), [GOAL], Terms(Peak("users", 200), PRICES))
    plan = case.cheapest()
    assert isinstance(plan, Plan)
    told = {(one.kind, one.journey): one for one in case.otherwise(plan, ["search", "buy"])}
    assert set(told) == {
        ("load", ""), ("demands up", ""), ("demands down", ""), ("think", ""), ("mix", "search"), ("mix", "buy"),
    }  # fmt: skip
    halved, more = told["think", ""].plan, told["mix", "buy"].plan
    assert isinstance(halved, Plan)
    assert isinstance(more, Plan)
    assert halved.cost > plan.cost
    assert not told["think", ""].holds
    assert told["demands down", ""].holds
    assert more.counts[1] >= plan.counts[1]
    buying = shifted(own, ["search", "buy"], "buy")
    assert [step.share for step in buying.steps] == pytest.approx([0.4, 0.6])


@pytest.mark.parametrize("number", [9, 16])
def test_a_plan_for_a_measured_system_holds_when_it_is_played_with_an_instance_lost(number: int) -> None:
    found = examine(number, point=False)
    assert found.why_not == ""
    assert found.holds, f"the worst step took {found.worst:.2f} of its goal"
