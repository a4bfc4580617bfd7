"""What is said of a run under way: only what further levels would not take back."""

from __future__ import annotations

from dataclasses import replace

import pytest

from stonekettle.cli.bench.conditions import make
from stonekettle.cli.bench.living import examine, judge
from stonekettle.core import analysis
from stonekettle.core.analysis import Analysis
from stonekettle.core.living import Living, so_far
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.objectives import Objective
from stonekettle.core.orders import Ordered, as_planned
from stonekettle.core.types import Estimate
from stonekettle.practice.twin import Twin

CASE = make("ordinary", 3)
LIMIT = CASE.real.users or 0.0
SHARES = (0.2, 0.35, 0.5, 0.65, 1.2, 1.5, 1.8)
PROFILE = LoadProfile(
    tuple(Segment.hold(round(LIMIT * share), 40.0) for share in (0.2, 0.35, 0.5, 0.65, 1.2, 1.5, 1.8))
)


def looked(seconds: float) -> Analysis:
    ordered = as_planned(PROFILE)
    twin = Twin(CASE.config, CASE.journeys, seed=5)
    twin.follow(ordered, seconds)
    given = Ordered(tuple(order for order in ordered.orders if order.at_s <= seconds))
    goals = [Objective(1, "response", CASE.goal_s, 95.0)]
    return analysis.analyse(twin.collected(), given, goals, 0.05)


def test_before_a_level_is_over_nothing_is_said() -> None:
    living = so_far(looked(30.0))
    assert living == Living(0)


def test_below_saturation_it_says_what_would_be_full_first_and_where() -> None:
    living = so_far(looked(165.0))
    assert living.levels == 4
    assert living.saturated is None
    assert living.limiting is None
    assert living.next is not None
    assert living.next.resource == CASE.real.limiting
    assert living.next.load.low * 0.95 <= LIMIT <= living.next.load.high * 1.05


def test_beyond_it_says_where_and_why() -> None:
    end = looked(PROFILE.duration_s)
    living = so_far(end)
    assert living.saturated is not None
    assert living.saturated.low * 0.95 <= LIMIT <= living.saturated.high * 1.05
    assert living.limiting is not None
    assert living.limiting[1] == CASE.real.limiting
    assert living.next is None
    assert living.room is None


def test_an_objective_is_left_for_good_once_two_levels_beyond_have_missed_it() -> None:
    end = looked(PROFILE.duration_s)
    living = so_far(end)
    assert [left.objective for left in living.left] == [1]
    assert living.holds is None
    comfort = end.comfort
    assert comfort.results  # type: ignore[union-attr]
    first = comfort.results[0]  # type: ignore[union-attr]
    below_all_but_one = replace(first, level_loads=tuple(sorted(first.level_loads)[:-2]))
    once = replace(end, comfort=replace(comfort, results=(below_all_but_one,)))  # type: ignore[arg-type]
    assert len([load for load in below_all_but_one.level_loads if load > living.left[0].load.high]) < 2
    assert so_far(once).left == ()


def test_what_the_end_says_otherwise_is_seen() -> None:
    end = looked(PROFILE.duration_s)
    at = Estimate(LIMIT * 3, LIMIT * 2.8, LIMIT * 3.2, 0.9)
    wrong = Living(5, saturated=at, limiting=("pool", "shop.pool"), room=LIMIT * 3, holds=LIMIT * 3)
    assert dict(judge(wrong, end)) == {"saturated": True, "limiting": True, "room": True, "holds": True}
    assert not any(contradicted for _, contradicted in judge(so_far(end), end))


@pytest.mark.parametrize("kind", ["ordinary", "pool", "far", "lock"])
def test_looks_at_a_run_are_judged_by_its_end(kind: str) -> None:
    said = examine((kind, 0))
    assert len({one.moment for one in said}) >= 3
    assert sum(one.contradicted for one in said if one.moment == 0.5) == 0
