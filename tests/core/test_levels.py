"""Levels: warm-up removed, bad seconds left out, percentiles merged."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core.blur import assess
from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.levels import measure
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.objectives import first_errors
from stonekettle.core.orders import PlannedLevel, as_planned
from stonekettle.core.types import CoreInputError
from tests.conftest import steady_run


def test_a_steady_level_is_measured_exactly() -> None:
    (level,) = measure(steady_run(), [PlannedLevel(0, 60, 100)])
    assert level.throughput == pytest.approx(50)
    assert level.response_s == pytest.approx(0.1)
    assert level.p95_s == pytest.approx(0.1, rel=0.01)
    assert level.in_flight + level.thinking == pytest.approx(100)


def test_the_first_fifth_is_discarded() -> None:
    (level,) = measure(steady_run(think_s=0.5), [PlannedLevel(0, 60, 100)])
    assert level.seconds_used == 48


def test_a_long_cycle_discards_two_cycles_but_never_more_than_half() -> None:
    (level,) = measure(steady_run(think_s=9.9), [PlannedLevel(0, 60, 100)])
    assert level.seconds_used == 40
    (level,) = measure(steady_run(think_s=100), [PlannedLevel(0, 60, 100)])
    assert level.seconds_used == 30


def test_short_and_thin_levels_are_not_analysed() -> None:
    assert measure(steady_run(), [PlannedLevel(0, 9, 100)]) == ()
    assert measure(steady_run(rate=1), [PlannedLevel(0, 60, 100)]) == ()


def test_users_off_the_plan_by_more_than_two_percent_are_left_out_and_counted() -> None:
    run = steady_run()
    users = run.users.copy()
    users[30:40], users[41] = 97, 99
    (level,) = measure(replace(run, users=users), [PlannedLevel(0, 60, 100)])
    assert level.seconds_left_out == 10
    assert level.seconds_used == 38


def test_the_load_of_a_level_is_what_was_delivered() -> None:
    run = replace(steady_run(), overdue=np.full(60, 3.0), blind=np.full(60, 1.0))
    (level,) = measure(run, [PlannedLevel(0, 60, 100)])
    assert level.present == pytest.approx(100)
    assert level.users == pytest.approx(97)
    assert level.shift == pytest.approx(0.04)


def test_percentiles_have_two_ends() -> None:
    run = steady_run(response_s=0.1)
    second = np.repeat(np.arange(60), 50)
    low = HistogramSeries.from_observations(second, np.zeros_like(second), np.full(second.size, 90_000))
    (level,) = measure(replace(run, low_histograms=low), [PlannedLevel(0, 60, 100)])
    assert level.p95_s == pytest.approx(0.1, rel=0.01)
    assert level.p95_low_s == pytest.approx(0.09, rel=0.01)


def test_seconds_without_data_are_gaps_never_zeros() -> None:
    run = steady_run()
    users, completed = run.users.copy(), run.completed.copy()
    users[40:45], completed[40:45] = np.nan, 0
    (level,) = measure(replace(run, users=users, completed=completed), [PlannedLevel(0, 60, 100)])
    assert level.throughput == pytest.approx(50)
    assert level.seconds_left_out == 5


def test_failed_requests_count_for_load_but_not_for_throughput() -> None:
    run = steady_run()
    errors = run.errors.copy()
    errors[:, 0] = 10
    (level,) = measure(replace(run, errors=errors), [PlannedLevel(0, 60, 100)])
    assert level.throughput == pytest.approx(40)
    assert level.completion_rate == pytest.approx(50)
    assert level.error_ratio == pytest.approx(0.2)


def test_ramp_bins_are_marked_as_moving() -> None:
    profile = LoadProfile((Segment.ramp(50, 150, 60),))
    run = steady_run()
    planned = as_planned(profile).mean_users(60)
    found = measure(replace(run, planned_users=planned, users=planned), as_planned(profile).levels())
    assert len(found) == 6
    assert all(level.moving for level in found)


def test_missing_meter_readings_do_not_pull_the_mean_down() -> None:
    from stonekettle.core.run_data import ResourceSeries

    utilisation = np.full(60, 0.8)
    utilisation[20:30] = np.nan
    run = steady_run(resources=(ResourceSeries("shop", "cpu", "cpu", np.ones(60), utilisation),))
    (level,) = measure(run, [PlannedLevel(0, 60, 100)])
    assert level.utilisation["shop.cpu"] == pytest.approx(0.8)


def test_seconds_that_people_set_aside_count_for_nothing() -> None:
    run = steady_run()
    errors, completed = run.errors.copy(), run.completed.copy()
    errors[30:40, 0], completed[30:40, 0] = 40, 90
    disturbed = replace(run, errors=errors, completed=completed, error_kinds={"status 503": errors[:, 0]})
    assert measure(disturbed, [PlannedLevel(0, 60, 100)])[0].error_ratio > 0.1
    aside = np.zeros(60, dtype=np.bool_)
    aside[30:40] = True
    without = replace(disturbed, set_aside=aside)
    (level,) = measure(without, [PlannedLevel(0, 60, 100)])
    assert (level.errors, level.seconds_left_out, level.seconds_used) == (0, 10, 38)
    assert level.throughput == pytest.approx(50)
    assert all(not (first < 40 and end > 30) for first, end in level.spans)
    assert [one.second for one in first_errors(disturbed)] == [30]
    assert first_errors(without) == ()
    assert assess(without, [], ()).seconds == assess(disturbed, [], ()).seconds - 10
    with pytest.raises(CoreInputError, match="set_aside"):
        replace(run, set_aside=aside[:5])
