"""Candidates in blocks: what drifts is alike within a block, and how each turn begins is left out."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import pytest

from stonekettle.core.facts import WHOLE, Fact
from stonekettle.core.pooling import block_ratios, compare_blocks, compare_sides
from stonekettle.core.settling import LEAST_KEPT, settle

STEP = "Plan / Search"
BLOCKS = 8


def turn(logs: Sequence[float], load: float = 100.0, figure: str = "mean") -> list[Fact]:
    value = math.exp(float(np.nanmean(logs)))
    return [Fact(1, WHOLE, "load", load), Fact(1, STEP, figure, value, blocks=tuple(logs))]


def drifting(seed: int, better: float = 1.0, drift: float = 0.3) -> tuple[list[list[Fact]], list[list[Fact]]]:
    """Turns of two candidates on a machine that gets slower by a lot from block to block; the second is so much
    ``better``."""
    chance = np.random.default_rng(seed)
    sides: tuple[list[list[Fact]], list[list[Fact]]] = ([], [])
    for block in range(BLOCKS):
        for side, factor in zip(sides, (1.0, better), strict=True):
            level = drift * block + math.log(factor) + chance.normal(0, 0.01)
            side.append(turn(level + chance.normal(0, 0.05, 14)))
    return sides


def test_a_difference_shows_through_a_drift_that_is_much_larger() -> None:
    before, after = drifting(1, better=0.9)
    found = compare_blocks(before, after)
    (one,) = found.told
    assert one.verdict == found.verdict == "faster"
    assert one.ratio.low < 0.9 < one.ratio.high < 1
    assert one.detectable < 0.1
    # Taken for runs of two sides, the same turns tell nothing: their spread is the drift's.
    assert compare_sides(before, after).verdict == "inconclusive"


def test_equal_candidates_are_called_different_about_as_rarely_as_is_said() -> None:
    different = sum(bool(compare_blocks(*drifting(seed)).told) for seed in range(300))
    assert different <= 0.07 * 300
    # A difference below what matters is none: alone by that they would be fewer still.
    by_chance = sum(compare_blocks(*drifting(seed), matters=0.0).differences[0].p < 0.05 for seed in range(300))
    assert 0.02 * 300 < by_chance < 0.09 * 300


def test_several_comparisons_share_the_chance_of_a_false_one() -> None:
    before, after = drifting(1, better=0.9)
    (one,) = compare_blocks(before, after).told
    few = compare_blocks(before, after, comparisons=max(2, math.ceil(0.06 / one.p)))
    assert not few.told
    assert few.differences[0].p == one.p


def test_the_chance_is_students() -> None:
    """By hand: differences 0.1, 0.2, 0.3 have mean 0.2 and standard error 0.1 / √3, so t = 3.464 with 2 degrees."""
    before = [turn([0.0] * 6) for _ in range(3)]
    after = [turn([by] * 6) for by in (0.1, 0.2, 0.3)]
    (one,) = compare_blocks(before, after).differences
    assert one.ratio.value == pytest.approx(math.exp(0.2))
    assert one.p == pytest.approx(0.0742, abs=1e-4)
    assert block_ratios(before, after)[STEP, "mean"] == pytest.approx([math.exp(by) for by in (0.1, 0.2, 0.3)])


@pytest.mark.parametrize(("firsts", "seconds"), [(1, 1), (3, 2), (0, 0)])
def test_blocks_are_two_and_whole(firsts: int, seconds: int) -> None:
    with pytest.raises(ValueError, match="two blocks"):
        compare_blocks([turn([0.0] * 6)] * firsts, [turn([0.0] * 6)] * seconds)


def cold(seed: int, decays: float, high: float = 1.0, length: int = 18) -> list[list[Fact]]:
    """Turns that begin ``high`` above themselves and are themselves after some ``decays`` blocks."""
    chance = np.random.default_rng(seed)
    start = high * np.exp(-np.arange(length) / decays) if decays else np.zeros(length)
    return [turn(start + chance.normal(0, 0.02, length)) for _ in range(BLOCKS)]


def test_the_beginning_of_each_turn_is_left_out_until_it_is_itself() -> None:
    settling, (warm, slow) = settle([cold(1, 0), cold(2, 1.0)])
    assert settling.settled
    assert 10 <= settling.left_out_s <= 30
    for side in (warm, slow):
        for one in side:
            blocks = next(fact.blocks for fact in one if fact.figure == "mean")
            assert np.isnan(blocks[: int(settling.left_out_s // 5)]).all()
            assert np.isfinite(blocks[int(settling.left_out_s // 5) :]).all()


def test_turns_that_are_steady_lose_nothing_to_speak_of() -> None:
    left_out = [settle([cold(seed, 0), cold(seed + 1000, 0)])[0].left_out_s for seed in range(40)]
    assert np.median(left_out) <= 5


def test_what_does_not_settle_is_told_and_a_third_is_left_out() -> None:
    settling, _ = settle([cold(1, 0), cold(2, 12.0)])
    assert not settling.settled
    assert settling.left_out_s == 30


def test_of_a_short_turn_enough_is_kept() -> None:
    settling, (kept,) = settle([cold(1, 3.0, length=LEAST_KEPT + 1)])
    assert settling.left_out_s <= 5
    assert len(kept) == BLOCKS


def test_only_the_first_level_is_cut() -> None:
    two = [[*one, Fact(2, STEP, "mean", 1.0, blocks=(0.0,) * 18)] for one in cold(2, 1.0)]
    _, (kept,) = settle([two])
    assert all(np.isfinite(fact.blocks).all() for one in kept for fact in one if fact.level == 2)
