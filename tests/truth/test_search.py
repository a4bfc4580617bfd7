"""Searches for the comfort limit of systems with a known truth, in virtual time: a small sample of what
``kettle bench search`` measures."""

from __future__ import annotations

from dataclasses import replace

import pytest

from stonekettle.cli.bench import search as bench
from stonekettle.cli.bench.conditions import make
from stonekettle.core.search import Bounds, End

SYSTEMS = [("few users", 2), ("pool without metrics", 3), ("lock", 4)]


@pytest.mark.parametrize("job", SYSTEMS, ids=lambda job: f"{job[0]} {job[1]}")
def test_the_limit_is_found_between_loads_that_are_far_apart(job: tuple[str, int]) -> None:
    case = make(*job)
    seconds, over = bench.play(case, bench.bounds_of(case), seed=5)
    real = bench.true_comfort(case, case.profile.peak / 2)
    assert real is not None
    assert over.end in (End.PRECISE, End.NO_GAIN, End.TIME)
    assert over.found is not None
    assert over.found.value == pytest.approx(real, rel=0.15)
    assert over.found.low / 1.05 <= real <= over.found.high * 1.05
    assert (over.found.high - over.found.low) / 2 / over.found.value < 0.15
    assert seconds <= bench.WITHIN_S


def test_two_light_levels_foretell_where_it_will_be() -> None:
    case = make("ordinary", 3)
    _, over = bench.play(case, bench.bounds_of(case), seed=4)
    assert over.foretold is not None
    assert over.found is not None
    assert over.foretold == pytest.approx(over.found.value, rel=0.2)


def test_it_ends_where_it_may_not_go_further() -> None:
    case = make("ordinary", 1)
    _, over = bench.play(case, Bounds(4, 60, 420), seed=1)
    assert (over.end, over.found) == (End.MOST, None)
    _, over = bench.play(case, Bounds(500, 2000, 420), seed=1)
    assert over.end is End.LOWEST
    seconds, over = bench.play(case, Bounds(5, 700, 100), seed=1)
    assert over.end is End.TIME
    assert seconds <= 100


def test_a_goal_that_is_missed_at_once_is_searched_below() -> None:
    """It began with too many, for all it knew."""
    case = make("ordinary", 1)
    hard = replace(case, goal_s=case.goal_s / 1.5)
    _, over = bench.play(hard, Bounds(100, 2000, 420), seed=1)
    assert over.end is not End.MOST
    assert over.found is not None
    assert over.found.value < 175
