"""Histories: shifts are found where they are, and steadiness is left alone."""

from __future__ import annotations

import math

import numpy as np
import pytest

from stonekettle.core import history
from stonekettle.core.types import FloatArray

RUNS = 24


def series(seed: int, *steps: tuple[int, float], noise: float = 0.03) -> FloatArray:
    """Runs of level 100 that become so many times as much at each step."""
    values = np.random.default_rng(seed).normal(math.log(100), noise, RUNS)
    for at, ratio in steps:
        values[at:] += math.log(ratio)
    return np.exp(values)


def test_a_steady_figure_is_left_alone() -> None:
    assert sum(bool(history.shifted(series(seed))) for seed in range(200)) <= 12


def test_a_long_history_raises_no_more_alarms() -> None:
    random = np.random.default_rng(8)
    long = [np.exp(random.normal(0, 0.03, 150)) for _ in range(60)]
    assert sum(bool(history.shifted(one)) for one in long) <= 6


@pytest.mark.parametrize("ratio", [1.15, 1 / 1.15])
def test_a_step_is_found_where_it_is(ratio: float) -> None:
    found = [history.shifted(series(seed, (12, ratio))) for seed in range(30)]
    assert sum(any(abs(at - 12) <= 1 for at in places) for places in found) >= 28


def test_a_step_and_its_mend_are_two() -> None:
    assert history.shifted(series(3, (9, 1.2), (17, 1 / 1.2))) == [9, 17]


def test_one_odd_run_is_no_shift() -> None:
    for seed in range(20):
        values = series(seed)
        values[14] *= 1.4
        assert 14 not in history.shifted(values)


def test_many_figures_together_need_more() -> None:
    together = sum(any(history.shifted(series(100 * s + i), 12) for i in range(12)) for s in range(30))
    assert together <= 4


def test_a_figure_that_never_varies_has_no_shift() -> None:
    assert history.shifted([5.0] * 20) == []
    assert history.shifted([5.0]) == []


def test_the_course_tells_levels_shifts_and_noise() -> None:
    course = history.course(series(5, (12, 1.2)), [12])
    first, second = course.stretches
    assert (first.first, first.last, second.first, second.last) == (0, 11, 12, RUNS - 1)
    assert first.level.value == pytest.approx(100, rel=0.03)
    (shift,) = course.shifts
    assert shift.at == 12
    assert shift.ratio.low < 1.2 < shift.ratio.high
    assert course.noise == pytest.approx(0.03, rel=0.4)


def test_intervals_of_a_known_shift_cover_it() -> None:
    covered = 0
    for seed in range(200):
        (shift,) = history.course(series(seed, (8, 1.1)), [8]).shifts
        covered += shift.ratio.low <= 1.1 <= shift.ratio.high
    assert 180 <= covered <= 199


def test_the_chance_of_a_difference_at_a_known_place_is_even() -> None:
    chances = [history.chance_of(series(seed), 0, 12, RUNS) for seed in range(400)]
    assert 0.02 <= np.mean(np.array(chances) < 0.05) <= 0.09
    assert history.chance_of(series(1, (12, 1.2)), 0, 12, RUNS) < 1e-6
    assert history.chance_of(series(1), 0, 1, RUNS) == 1.0


def test_nothing_has_no_course() -> None:
    assert history.course([], []).stretches == ()
