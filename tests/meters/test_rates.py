"""Counters become rates; gaps stay gaps; restarts are found."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.meters.rates import events, increments, largest, per_second, total
from tests.meters.conftest import readings, samples

NAN = float("nan")


def test_a_counters_rate_holds_between_its_samples() -> None:
    found = per_second(samples("c", [5, 8, 8, 14], "counter"), 4)
    np.testing.assert_allclose(found, [3, 0, 6, NAN])


def test_a_gauge_closes_its_second() -> None:
    np.testing.assert_allclose(per_second(samples("g", [1, 2, 3]), 3), [2, 3, NAN])


def test_a_reset_counts_from_zero_again() -> None:
    np.testing.assert_allclose(per_second(samples("c", [500, 600, 4], "counter"), 2), [100, 4])


def test_an_outage_of_ten_seconds_is_a_gap_and_never_zero() -> None:
    counter = samples("c", [0, 10, 20, 130, 140], "counter", times=[0, 1, 2, 13, 14])
    np.testing.assert_allclose(per_second(counter, 14), [10, 10, *[NAN] * 11, 10])
    gauge = samples("g", [1, 2, 3, 4, 5], times=[0, 1, 2, 13, 14])
    np.testing.assert_allclose(per_second(gauge, 14), [2, 3, *[NAN] * 10, 4, 5])


def test_coarse_samples_hold_for_their_whole_interval() -> None:
    found = per_second(samples("c", [0, 50, 150], "counter", times=[0, 10, 20]), 22)
    np.testing.assert_allclose(found, [*[5] * 10, *[10] * 10, NAN, NAN])


def test_scrapes_a_little_early_or_late_leave_no_holes() -> None:
    times = np.arange(30) + np.random.default_rng(4).uniform(-0.2, 0.2, 30)
    assert np.isfinite(per_second(samples("c", np.arange(30.0), "counter", times=times), 29)).all()


@given(st.lists(st.floats(0, 1e6), min_size=2, max_size=30))
def test_what_a_counter_grew_by_is_what_its_rates_add_up_to(grown: list[float]) -> None:
    values = np.cumsum(grown)
    item = samples("c", values, "counter")
    assert np.nansum(per_second(item, len(grown) - 1)) == pytest.approx(values[-1] - values[0], abs=1e-3)
    assert (increments(item) >= 0).all()


def test_sums_and_maxima_leave_out_what_is_unknown() -> None:
    a, b = np.array([1, NAN, NAN]), np.array([2, 3, NAN])
    np.testing.assert_allclose(total([a, b]), [3, 3, NAN])
    np.testing.assert_allclose(largest([a, b]), [2, 3, NAN])


def test_a_restart_is_told_by_the_start_time_once() -> None:
    start = samples("process_start_time_seconds", [100, 100, 160, 160])
    fallen = [samples(f"c{i}", [50, 60, 1, 2], "counter") for i in range(3)]
    (event,) = events(readings(start, *fallen))
    assert (event.kind, event.second, event.component, event.instance) == ("restart", 2, "shop", "a")


def test_a_restart_is_told_by_counters_falling_together() -> None:
    fallen = [samples(f"c{i}", [50, 60, 1, 2], "counter") for i in range(3)]
    assert [event.kind for event in events(readings(*fallen))] == ["restart"]


def test_one_counter_that_falls_alone_is_a_reset() -> None:
    others = [samples(f"c{i}", [1, 2, 3, 4], "counter") for i in range(3)]
    (event,) = events(readings(*others, samples("lone", [9, 10, 0, 1], "counter")))
    assert (event.kind, event.metric) == ("reset", "lone")


def test_a_silence_is_told_with_its_end() -> None:
    (event,) = events(readings(samples("g", [1] * 5, times=[0, 1, 2, 12, 13])))
    assert (event.kind, event.second, event.until) == ("silence", 2, 12)
