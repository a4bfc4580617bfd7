"""What came of a change: when it settled, what it changed, and what is not claimed."""

from __future__ import annotations

import math

import numpy as np
import pytest

from stonekettle.core.effect import BLOCK_S, Blocks, effect
from stonekettle.core.types import CoreInputError, FloatArray


def run(mean_s: FloatArray, *, load: FloatArray | None = None, failed: FloatArray | None = None) -> Blocks:
    """A run of blocks with these means, 95th percentiles twice as long."""
    n = mean_s.size
    return Blocks(
        BLOCK_S * np.arange(n, dtype=np.float64),
        np.full(n, 100.0) if load is None else load,
        np.full(n, 250.0),
        np.zeros(n) if failed is None else failed,
        mean_s,
        2 * mean_s,
    )


def noisy(values: FloatArray, seed: int, share: float = 0.05) -> FloatArray:
    return np.asarray(values * np.exp(share * np.random.default_rng(seed).standard_normal(values.size)))


def test_what_it_changed_is_told_once_it_has_settled() -> None:
    # Asked for at 60 s, ready at 72 s, the queue drained by 90 s.
    means = np.concatenate([np.full(12, 0.4), np.full(3, 0.42), [0.35, 0.28, 0.22], np.full(20, 0.2)])
    found = effect(run(noisy(means, 1)), 60.0, 72.0)
    assert found is not None
    assert found.settled_s == pytest.approx(90, abs=BLOCK_S)
    assert found.mean is not None
    assert found.mean.low < 0.5 < found.mean.high
    assert found.mean.high < 0.6
    assert found.p95_before_s == pytest.approx(0.8, rel=0.05)
    assert (found.failed, found.other_load) == (0, 1.0)


def test_the_interval_holds_the_truth_as_often_as_it_says() -> None:
    means = np.concatenate([np.full(12, 0.4), np.full(18, 0.3)])
    told = [found.mean for found in (effect(run(noisy(means, seed)), 60.0, 60.0) for seed in range(200)) if found]
    answered = [one for one in told if one is not None]
    assert len(answered) >= 190
    assert sum(one.low <= 0.75 <= one.high for one in answered) >= 0.92 * len(answered)


def test_of_two_alike_it_claims_no_change() -> None:
    means = np.full(30, 0.3)
    told = [found.p95 for found in (effect(run(noisy(means, seed)), 60.0, 60.0) for seed in range(200)) if found]
    answered = [one for one in told if one is not None]
    assert len(answered) >= 190
    assert sum(not one.low <= 1 <= one.high for one in answered) <= 0.08 * len(answered)


def test_before_it_has_settled_nothing_is_claimed() -> None:
    growing = np.concatenate([np.full(12, 0.2), 0.2 * 1.3 ** np.arange(12)])
    found = effect(run(growing), 60.0, 62.0)
    assert found is not None
    assert found.mean is None
    short = effect(run(np.full(14, 0.2)), 60.0, 61.0)
    assert short is not None
    assert (short.settled_s, short.mean) == (None, None)


def test_with_nothing_before_it_there_is_no_answer() -> None:
    assert effect(run(np.full(30, 0.2)), 12.0, 20.0) is None
    silent = np.full(30, math.nan)
    assert effect(run(silent), 60.0, 62.0) is None


def test_another_load_and_failures_meanwhile_are_told() -> None:
    load = np.concatenate([np.full(12, 100.0), np.full(18, 150.0)])
    failed = np.zeros(30)
    failed[12:14] = 20
    found = effect(run(noisy(np.full(30, 0.3), 2), load=load, failed=failed), 60.0, 75.0)
    assert found is not None
    assert found.other_load == pytest.approx(1.5)
    assert found.failed == 40


def test_what_comes_next_ends_what_is_told_of_the_one_before() -> None:
    means = np.concatenate([np.full(12, 0.4), np.full(8, 0.3), np.full(10, 0.1)])
    found = effect(run(noisy(means, 3)), 60.0, 60.0, until_s=100.0)
    assert found is not None
    assert found.mean is not None
    assert found.mean.value == pytest.approx(0.75, rel=0.1)


def test_it_cannot_be_done_before_it_was_asked_for() -> None:
    with pytest.raises(CoreInputError, match="done_s: 5 is before 9"):
        effect(run(np.full(30, 0.2)), 9.0, 5.0)
