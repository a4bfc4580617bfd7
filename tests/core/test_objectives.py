"""Comfort limit, breaking point and first errors."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core.analysis import analyse
from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.levels import Level, measure
from stonekettle.core.objectives import (
    BreakingPoint,
    ComfortLimit,
    Objective,
    breaking_point,
    comfort_limit,
    first_errors,
)
from stonekettle.core.orders import PlannedLevel, as_planned
from stonekettle.core.queueing import Station, solve
from stonekettle.core.run_data import RunData
from stonekettle.core.types import Declined, Reason
from stonekettle.practice.twin import simulate
from tests.conftest import climb, one_server_system, steady_run, visits

PROFILE = climb(20, 180, 20)


@pytest.fixture(scope="module")
def loaded() -> tuple[RunData, tuple[Level, ...]]:
    """A run through saturation at 102 users."""
    run = simulate(one_server_system(20, servers=2), visits(1.0), PROFILE)
    return run, measure(run, as_planned(PROFILE).levels())


def test_the_comfort_limit_lies_between_the_levels_that_hold_and_break(
    loaded: tuple[RunData, tuple[Level, ...]],
) -> None:
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "response", 0.3)])
    assert isinstance(found, ComfortLimit)
    assert found.status == "found"
    assert found.load is not None
    below = max(lv.users for lv in levels if lv.p95_s < 0.3)
    above = min(lv.users for lv in levels if lv.p95_s > 0.3)
    assert below <= found.load.value <= above
    assert found.load.low < found.load.value < found.load.high
    assert 0 < found.throughput <= 101


def test_the_strictest_objective_decides(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "response", 5.0), Objective(2, "response", 0.2)])
    assert isinstance(found, ComfortLimit)
    assert found.deciding is not None
    assert found.deciding.number == 2
    assert found.results[0].holds
    assert not found.results[1].holds


def test_comfort_limit_declines_to_name_a_load_when_every_level_passes(
    loaded: tuple[RunData, tuple[Level, ...]],
) -> None:
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "response", 60.0)])
    assert isinstance(found, ComfortLimit)
    assert found.status == "holds"
    assert found.load is None
    assert found.tested == pytest.approx(180, abs=1)


def test_an_objective_broken_everywhere_says_so(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "response", 0.001)])
    assert isinstance(found, ComfortLimit)
    assert found.status == "below"


def test_no_objectives_no_limit(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    assert comfort_limit(*loaded, []) == Declined(Reason.NO_OBJECTIVES)


def test_errors_that_pass_the_limit_for_good_are_the_breaking_point() -> None:
    config = one_server_system(20, servers=2, refuse_over=30)
    run = simulate(config, visits(1.0), PROFILE)
    levels = measure(run, as_planned(PROFILE).levels())
    found = breaking_point(run, levels, 0.05)
    assert isinstance(found, BreakingPoint)
    assert found.load.low < found.load.value
    assert 100 < found.load.value <= 161
    assert found.error_ratio > 0.05
    (first,) = first_errors(run)
    assert first.kind == "status 503"
    assert first.second == int(np.argmax(run.errors.sum(axis=1) > 0))


def test_an_error_objective_can_decide_the_comfort_limit() -> None:
    config = one_server_system(20, servers=2, refuse_over=30)
    run = simulate(config, visits(1.0), PROFILE)
    found = comfort_limit(run, measure(run, as_planned(PROFILE).levels()), [Objective(1, "errors", 0.01)])
    assert isinstance(found, ComfortLimit)
    assert found.load is not None
    assert 80 < found.load.value < 161


def failing(run: RunData, levels: tuple[Level, ...], ratios: list[float]) -> tuple[RunData, tuple[Level, ...]]:
    """The run with such a share of errors at each level; at the others there are none."""
    errors = np.zeros_like(run.errors)
    for level, ratio in zip(levels, ratios, strict=False):
        seconds = slice(int(level.start_s), int(level.end_s))
        done = run.completed[seconds].astype(float)
        errors[seconds] = np.diff(np.floor(np.cumsum(done, axis=0) * ratio), axis=0, prepend=0)
    hurt = replace(run, errors=errors)
    return hurt, measure(hurt, as_planned(PROFILE).levels())[: len(ratios)]


def test_errors_that_come_and_go_are_a_breaking_that_recovered(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    found = breaking_point(*failing(*loaded, [0, 0, 0.20, 0.30, 0.02]), 0.05)
    assert isinstance(found, BreakingPoint)
    assert (found.level, found.error_ratio) == (3, pytest.approx(0.2, abs=0.01))
    assert (found.load.low, found.load.high) == (pytest.approx(40, abs=1), pytest.approx(60, abs=1))
    assert found.recovered_at == pytest.approx(100, abs=1)


def test_the_breaking_point_is_where_the_limit_is_passed_and_not_a_level_later(
    loaded: tuple[RunData, tuple[Level, ...]],
) -> None:
    """0, 7 and 20 % of some 700 to 2,000 steps: 5 % are passed at 20 + 5/7 of the way to 40 users."""
    run, levels = failing(*loaded, [0, 0.07, 0.20])
    found = breaking_point(run, levels, 0.05)
    assert isinstance(found, BreakingPoint)
    passed = 20 + 20 * 5 / 7
    assert found.load.value == pytest.approx(passed, abs=1)
    assert found.load.low <= passed <= found.load.high
    assert found.recovered_at is None
    # Where so few were counted that 7 % may be less than 5, the interval reaches over both neighbours.
    few = tuple(replace(level, completions=150, errors=round(150 * level.error_ratio)) for level in levels)
    vague = breaking_point(run, few, 0.05)
    assert isinstance(vague, BreakingPoint)
    assert vague.load.low <= passed <= vague.load.high
    assert vague.load.high == pytest.approx(60, abs=1)


@pytest.mark.parametrize("slope", [0.002, 0.0005])
def test_the_interval_of_a_breaking_point_holds_the_truth(slope: float) -> None:
    """Errors of chance that grow with load beyond 60 users: 5 % are passed at 60 + 0.05 / slope users."""
    held, off = 0, []
    truth = 60 + 0.05 / slope
    base = simulate(one_server_system(5, servers=8), visits(1.0), climb(20, 240, 20))
    planned = as_planned(climb(20, 240, 20)).levels()
    for seed in range(60):
        random = np.random.default_rng(seed)
        share = np.clip((base.users - 60) * slope, 0, 1)[:, None]
        run = replace(base, errors=random.binomial(base.completed, share))
        found = breaking_point(run, measure(run, planned), 0.05)
        assert isinstance(found, BreakingPoint)
        held += found.load.low <= truth <= found.load.high
        off.append(found.load.value / truth - 1)
    assert held >= 54
    assert abs(np.median(off)) < 0.05


def slow_at(run: RunData, level: Level, seconds: float) -> RunData:
    """The run with all steps of a level taking so long."""

    def slowed(series: HistogramSeries) -> HistogramSeries:
        kept = (series.second < level.start_s) | (series.second >= level.end_s)
        rest = HistogramSeries(series.second[kept], series.cell[kept], series.bucket[kept], series.count[kept])
        second = np.repeat(np.arange(int(level.start_s), int(level.end_s)), 10)
        made = HistogramSeries.from_observations(
            second, np.zeros_like(second), np.full(second.size, int(seconds * 1e6))
        )
        return HistogramSeries.joined([rest, made])

    return replace(run, histograms=slowed(run.histograms), low_histograms=slowed(run.low_histograms))


def test_a_level_that_missed_its_goal_in_between_is_told_whether_or_not_the_goal_holds(
    loaded: tuple[RunData, tuple[Level, ...]],
) -> None:
    run, levels = loaded
    run = slow_at(run, levels[1], 0.6)
    holds = comfort_limit(run, levels[:4], [Objective(1, "response", 0.5)])
    assert isinstance(holds, ComfortLimit)
    assert (holds.status, holds.results[0].missed_at) == ("holds", (pytest.approx(40, abs=1),))
    found = comfort_limit(run, levels, [Objective(1, "response", 0.5)])
    assert isinstance(found, ComfortLimit)
    assert (found.status, found.results[0].missed_at) == ("found", (pytest.approx(40, abs=1),))
    sound = comfort_limit(loaded[0], levels, [Objective(1, "response", 0.5)])
    assert isinstance(sound, ComfortLimit)
    assert sound.results[0].missed_at == ()


def test_below_the_lowest_level_no_bound_is_claimed(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    found = comfort_limit(*loaded, [Objective(1, "response", 0.001)])
    assert isinstance(found, ComfortLimit)
    assert found.load is not None
    assert (found.status, found.load.low) == ("below", 0.0)


def test_where_few_services_take_most_of_the_time_the_limit_is_told_less_sharply() -> None:
    """Levels of a minute are too short for their longest queues: the limit may lie well under what they show."""
    profile, goal = climb(20, 180, 20), Objective(1, "response", 0.25)
    widths = []
    for law, variation in (("exponential", 1.0), ("hyperexponential", 3.0)):
        config = replace(one_server_system(20, servers=2), service_law=law, service_variation=variation)
        run = simulate(config, visits(1.0), profile, seed=3)
        found = analyse(run, as_planned(profile), [goal], 0.05).comfort
        assert isinstance(found, ComfortLimit)
        assert found.load is not None
        widths.append((found.load.value - found.load.low) / found.load.value)
    assert widths[1] > widths[0] + 0.1


def test_a_mean_is_crossed_where_the_exact_network_says(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    """Two servers of 20 ms and 1 s of thinking: the mean reaches 150 ms where the closed network has it."""
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "mean", 0.15)])
    assert isinstance(found, ComfortLimit)
    assert found.load is not None
    exact = solve([Station.servers("shop", 0.02, 2)], 1.0, 180)
    real = float(np.interp(0.15, exact.response_s, exact.users))
    assert found.load.low < real < found.load.high
    assert found.load.value == pytest.approx(real, rel=0.06)
    assert found.results[0].values[0] == pytest.approx(levels[0].response_s)


def test_an_apdex_score_has_its_closed_form() -> None:
    """Exponential responses of 100 ms on the average, T of 150 ms: 1 − e^−1.5 satisfied, e^−1.5 − e^−6 tolerating."""
    random = np.random.default_rng(5)
    seconds, rate = 60, 200
    second = np.repeat(np.arange(seconds), rate)
    times = np.round(random.exponential(100_000, second.size)).astype(np.int64)
    series = HistogramSeries.from_observations(second, np.zeros_like(second), times)
    run = replace(steady_run(rate=rate, seconds=seconds), histograms=series, low_histograms=series)
    levels = measure(run, (PlannedLevel(0, seconds, 100.0),))
    found = comfort_limit(run, levels, [Objective(1, "apdex", 0.5, target_s=0.15)])
    assert isinstance(found, ComfortLimit)
    expected = (1 - math.exp(-1.5)) + (math.exp(-1.5) - math.exp(-6)) / 2
    assert found.results[0].values[0] == pytest.approx(expected, abs=0.01)
    assert found.status == "holds"
    failing = replace(run, errors=run.completed // 4, completed=run.completed + run.completed // 4)
    (level,) = measure(failing, (PlannedLevel(0, seconds, 100.0),))
    (result,) = comfort_limit(failing, [level], [Objective(1, "apdex", 0.5, target_s=0.15)]).results  # type: ignore[union-attr]
    assert result.values[0] == pytest.approx(expected * 0.8, abs=0.01)


def test_an_apdex_score_falls_with_load_and_is_crossed(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "apdex", 0.85, target_s=0.1)])
    assert isinstance(found, ComfortLimit)
    assert found.load is not None
    scores = found.results[0].values
    assert scores[0] > 0.99
    below = max(n for n, score in zip(found.results[0].level_loads, scores, strict=True) if score > 0.85)
    above = min(n for n, score in zip(found.results[0].level_loads, scores, strict=True) if score < 0.85)
    assert below <= found.load.value <= above


def test_what_is_for_information_is_judged_and_decides_nothing(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    run, levels = loaded
    strict = Objective(1, "response", 0.06, decides=False)
    found = comfort_limit(run, levels, [strict, Objective(2, "response", 5.0)])
    assert isinstance(found, ComfortLimit)
    assert found.status == "holds"
    assert not found.results[0].holds
    alone = comfort_limit(run, levels, [strict])
    assert isinstance(alone, Declined)
    assert alone.reason is Reason.NO_OBJECTIVES
