"""Intervals of percentiles: how often they hold the truth."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core.histogram import BUCKETS, counts_of
from stonekettle.core.levels import measure
from stonekettle.core.orders import as_planned
from stonekettle.core.quantile import intervals_s
from stonekettle.practice.twin import simulate
from tests.conftest import climb, one_server_system, visits

PERCENTS = (50, 95, 99)


def test_they_hold_the_truth_as_often_as_they_say_though_answers_come_in_bursts() -> None:
    """Blocks with a mean of their own: the truth is that of the mixture."""
    random = np.random.default_rng(11)
    scale = 0.35
    everything = np.exp(random.normal(0, scale, 400_000)) * random.exponential(0.1, 400_000)
    truth = np.percentile(everything, PERCENTS)
    held = np.zeros(3)
    for _ in range(200):
        means = np.exp(random.normal(0, scale, 12))
        blocks = np.stack([counts_of((random.exponential(0.1 * mean, 400) * 1e6).astype(np.int64)) for mean in means])
        found = intervals_s(blocks, PERCENTS)
        held += [low <= value <= high for value, (low, high) in zip(truth, found.values(), strict=True)]
    assert ((held / 200 > 0.82) & (held / 200 < 0.98)).all(), held / 200


def test_of_answers_that_are_all_alike_chance_is_left() -> None:
    block = counts_of(np.full(100, 50_000))
    found = intervals_s(np.stack([block] * 8), (50,))
    low, high = found["p50"]
    assert low < 0.0504
    assert high > 0.0496
    assert high - low < 0.001


def test_too_few_blocks_or_answers_tell_none() -> None:
    block = counts_of(np.full(30, 50_000))
    assert intervals_s(np.stack([block] * 2), PERCENTS) == {}
    assert intervals_s(np.zeros((8, BUCKETS)), PERCENTS) == {}
    few = intervals_s(np.stack([counts_of(np.full(2, 50_000))] * 4), PERCENTS)
    assert "p99" not in few, "eight answers have none beyond the hundredth"


def test_levels_have_them_around_their_percentiles() -> None:
    profile = climb(40, 80, 40, 30)
    levels = measure(simulate(one_server_system(10.0), visits(1.0), profile), as_planned(profile).levels())
    for level in levels:
        for name, value in (("p50", level.p50_s), ("p95", level.p95_s), ("p99", level.p99_s)):
            low, high = level.intervals[name]
            assert low < value < high
            assert level.steps[0].intervals[name] == pytest.approx((low, high), rel=0.02)
