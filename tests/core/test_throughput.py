"""How much was done of what was promised, up to which load, and how sure that is."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core.levels import Level, measure
from stonekettle.core.objectives import ComfortLimit, Objective, comfort_limit
from stonekettle.core.orders import PlannedLevel, as_planned
from stonekettle.core.run_data import RunData
from stonekettle.core.throughput import ThroughputGoal, ThroughputResult, judge
from stonekettle.core.types import Declined, Reason
from stonekettle.practice.twin import simulate
from tests.conftest import climb, one_server_system, steady_run, visits

NOTHING = Declined(Reason.NO_OBJECTIVES)


@pytest.fixture(scope="module")
def loaded() -> tuple[RunData, tuple[Level, ...]]:
    """Two processors of 20 ms: full at 100 steps/s, from some 102 users on."""
    profile = climb(20, 180, 20)
    run = simulate(one_server_system(20, servers=2), visits(1.0), profile, seed=2)
    return run, measure(run, as_planned(profile).levels())


def only(results: tuple[ThroughputResult, ...]) -> ThroughputResult:
    (found,) = results
    return found


def test_the_most_of_any_level_counts_where_nothing_else_was_promised(
    loaded: tuple[RunData, tuple[Level, ...]],
) -> None:
    run, levels = loaded
    found = only(judge(run, levels, [ThroughputGoal(1, 95)], NOTHING))
    assert found.kept
    assert found.rate.low < 100 < found.rate.high + 3
    assert found.rate.value == pytest.approx(max(level.throughput for level in levels))
    assert not only(judge(run, levels, [ThroughputGoal(1, 120)], NOTHING)).kept


def test_what_is_done_beyond_the_limit_of_the_others_does_not_count(
    loaded: tuple[RunData, tuple[Level, ...]],
) -> None:
    run, levels = loaded
    comfort = comfort_limit(run, levels, [Objective(1, "response", 0.06)])
    assert isinstance(comfort, ComfortLimit)
    assert comfort.load is not None
    found = only(judge(run, levels, [ThroughputGoal(2, 95)], comfort))
    assert not found.kept
    assert found.load == pytest.approx(comfort.load.value)  # between two levels
    assert found.rate.value == pytest.approx(comfort.throughput, rel=0.02)
    assert only(judge(run, levels, [ThroughputGoal(2, 0.9 * comfort.throughput)], comfort)).kept


def test_where_the_others_never_hold_no_promise_is_kept(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    run, levels = loaded
    below = comfort_limit(run, levels, [Objective(1, "response", 0.001)])
    found = only(judge(run, levels, [ThroughputGoal(2, 1)], below))
    assert found.others_broken
    assert not found.kept


def test_failures_are_no_work_done_and_steps_are_counted_apart() -> None:
    run = steady_run(rate=50, seconds=60)
    levels = measure(run, (PlannedLevel(0, 60, 100.0),))
    assert only(judge(run, levels, [ThroughputGoal(1, 50, (0,))], NOTHING)).rate.value == 50
    failing = steady_run(rate=50, seconds=60)
    failing.errors[:] = 10
    failing.response_sum_s[:] = np.where(failing.completed, 4.0, 0.0)
    levels = measure(failing, (PlannedLevel(0, 60, 100.0),))
    assert only(judge(failing, levels, [ThroughputGoal(1, 50)], NOTHING)).rate.value == 40
    assert judge(run, (), [ThroughputGoal(1, 1)], NOTHING) == ()


def test_intervals_cover_the_true_rate() -> None:
    covered = 0
    for seed in range(40):
        run = simulate(one_server_system(20, servers=2), visits(1.0), climb(40, 40, 40, hold_s=60), seed=seed)
        levels = measure(run, (PlannedLevel(0, 60, 40.0),))
        rate = only(judge(run, levels, [ThroughputGoal(1, 1)], NOTHING)).rate
        covered += rate.low < 39.2 < rate.high  # 40 users, 1 s of thinking and 20.4 ms of response
    assert covered >= 31
