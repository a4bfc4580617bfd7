"""Histograms recover what was put in, and merge by addition."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.core import histogram
from stonekettle.core.types import CoreInputError

times = st.lists(st.integers(0, histogram.MAX_US), min_size=1, max_size=200)


@given(times)
def test_every_time_lies_in_its_bucket(values: list[int]) -> None:
    array = np.array(values, dtype=np.int64)
    bucket = histogram.bucket_of(array)
    assert np.all(histogram.EDGES_US[bucket] <= array)
    assert np.all(array < histogram.EDGES_US[bucket + 1])


def test_a_bucket_is_at_most_one_sixty_fourth_wide() -> None:
    low, high = histogram.EDGES_US[128:-1], histogram.EDGES_US[129:]
    assert np.max((high - low) / low) <= 1 / 64


def test_times_below_128_microseconds_are_exact() -> None:
    assert histogram.bucket_of(np.arange(128)).tolist() == list(range(128))


@given(times)
def test_encoding_is_lossless(values: list[int]) -> None:
    counts = histogram.counts_of(np.array(values, dtype=np.int64))
    buckets, found = histogram.decode(histogram.encode(counts))
    again = np.zeros_like(counts)
    again[buckets] = found
    assert np.array_equal(again, counts)


def test_an_empty_histogram_encodes_and_has_no_percentile() -> None:
    empty = np.zeros(histogram.BUCKETS, dtype=np.int64)
    assert histogram.decode(histogram.encode(empty))[0].size == 0
    assert np.isnan(histogram.percentile_s(empty, 50))


@pytest.mark.parametrize("percent", [10, 50, 95, 99])
def test_percentiles_agree_with_the_sorted_sample(percent: float) -> None:
    sample = np.random.default_rng(3).lognormal(11, 1, 50_000).astype(np.int64)
    found = histogram.percentile_s(histogram.counts_of(sample), percent)
    assert found == pytest.approx(np.percentile(sample, percent) / 1e6, rel=0.009)


def test_percent_out_of_range_is_refused_by_name() -> None:
    with pytest.raises(CoreInputError, match="percent"):
        histogram.percentile_s(np.ones(histogram.BUCKETS), 100)


def test_a_window_is_the_sum_of_its_seconds_and_steps() -> None:
    random = np.random.default_rng(1)
    second, step = np.sort(random.integers(0, 20, 500)), random.integers(0, 3, 500)
    value = random.integers(1, 10**6, 500)
    series = histogram.HistogramSeries.from_observations(second, step, value)
    window = (np.arange(20) >= 5) & (np.arange(20) < 12)
    chosen = window[second] & (step != 1)
    assert np.array_equal(series.merged(window, [0, 2]), histogram.counts_of(value[chosen]))


def test_series_from_encoded_entries_equals_series_from_observations() -> None:
    second, step = np.array([0, 0, 1, 3]), np.array([1, 1, 0, 1])
    value = np.array([10, 5_000, 70_000, 900])
    entries = [
        (int(s), int(k), histogram.encode(histogram.counts_of(value[(second == s) & (step == k)])))
        for s, k in {(0, 1), (1, 0), (3, 1)}
    ]
    built = histogram.HistogramSeries.from_entries(entries)
    direct = histogram.HistogramSeries.from_observations(second, step, value)
    everything = np.ones(4, dtype=bool)
    assert np.array_equal(built.merged(everything), direct.merged(everything))
    assert np.array_equal(built.merged(everything, [1]), direct.merged(everything, [1]))


def test_blocks_keep_seconds_apart() -> None:
    series = histogram.HistogramSeries.from_observations(
        np.array([0, 1, 2]), np.zeros(3, dtype=np.int64), np.array([100, 100, 100])
    )
    rows = series.blocks(np.array([0, -1, 1]), 2)
    assert rows.sum(axis=1).tolist() == [1, 1]


@given(st.lists(st.lists(st.integers(0, 5_000_000), max_size=30), max_size=6))
def test_many_are_decoded_at_once_as_one_by_one(samples: list[list[int]]) -> None:
    encoded = [histogram.encode(histogram.counts_of(np.array(values, dtype=np.int64))) for values in samples]
    buckets, counts, sizes = histogram.decode_all(encoded)
    edges = np.cumsum(sizes)[:-1]
    for data, own_buckets, own_counts in zip(
        encoded, np.split(buckets, edges), np.split(counts, edges), strict=len(encoded) > 0
    ):
        one_buckets, one_counts = histogram.decode(data)
        assert own_buckets.tolist() == one_buckets.tolist()
        assert own_counts.tolist() == one_counts.tolist()
