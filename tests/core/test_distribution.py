"""Random times have the mean and spread they promise."""

from __future__ import annotations

from collections import Counter
from random import Random

import numpy as np
import pytest

from stonekettle.core.distribution import Deck, Law
from stonekettle.core.types import CoreInputError


@pytest.mark.parametrize(
    "law",
    [
        Law("fixed", 2.0),
        Law("uniform", 2.0, spread_s=1.5),
        Law("exponential", 2.0),
        Law("lognormal", 2.0, variation=0.8),
    ],
)
def test_samples_have_the_mean_and_variation_of_the_law(law: Law) -> None:
    draw = law.sampler(Random(5))
    sample = np.array([draw() for _ in range(60_000)])
    assert sample.mean() == pytest.approx(2.0, rel=0.02)
    assert sample.std() / sample.mean() == pytest.approx(law.coefficient_of_variation, rel=0.03, abs=1e-9)


def test_a_mean_of_zero_is_always_zero() -> None:
    assert Law("exponential", 0.0).sampler(Random(1))() == 0.0
    assert Law("exponential", 0.0).coefficient_of_variation == 0.0


def test_impossible_laws_are_refused_by_name() -> None:
    with pytest.raises(CoreInputError, match="mean_s"):
        Law("fixed", -1.0)
    with pytest.raises(CoreInputError, match="spread_s"):
        Law("uniform", 1.0, spread_s=2.0)


def test_a_deck_keeps_the_mix_in_every_stretch() -> None:
    deck = Deck([50, 25, 25], Random(2))
    for _ in range(5):
        assert Counter(deck.draw() for _ in range(100)) == {0: 50, 1: 25, 2: 25}


def test_a_deck_pays_back_what_rounding_withheld() -> None:
    deck = Deck([1, 1, 1], Random(2))
    drawn = Counter(deck.draw() for _ in range(299))
    assert max(drawn.values()) - min(drawn.values()) <= 2


@pytest.mark.parametrize("weights", [[], [0, 0], [-1, 2]])
def test_a_deck_without_cards_is_refused(weights: list[float]) -> None:
    with pytest.raises(CoreInputError, match="weights"):
        Deck(weights, Random(1))
