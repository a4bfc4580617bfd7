"""The spread of times from counts in buckets, against the times themselves."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.core.histogram import counts_of
from stonekettle.core.spread import spread_of


@given(st.lists(st.integers(1, 600_000_000), min_size=2, max_size=60))
def test_it_is_that_of_the_times_within_the_width_of_a_bucket(times_us: list[int]) -> None:
    times = np.array(times_us)
    found = spread_of(counts_of(times).astype(float))
    assert found.least_s == pytest.approx(times.min() / 1e6, rel=0.008)
    assert found.most_s == pytest.approx(times.max() / 1e6, rel=0.008)
    assert found.deviation_s == pytest.approx(np.std(times, ddof=1) / 1e6, abs=0.008 * times.max() / 1e6 + 1e-12)


def test_of_an_exponential_law_the_deviation_is_the_mean() -> None:
    times = np.random.default_rng(1).exponential(200_000, 100_000).astype(np.int64)
    assert spread_of(counts_of(times).astype(float)).deviation_s == pytest.approx(0.2, rel=0.02)


def test_of_one_time_there_is_no_deviation_and_of_none_nothing() -> None:
    one = spread_of(counts_of(np.array([100])).astype(float))
    assert (one.least_s, one.most_s) == (1e-4, 1e-4)
    assert math.isnan(one.deviation_s)
    assert math.isnan(spread_of(np.zeros_like(counts_of(np.array([1]))).astype(float)).least_s)
