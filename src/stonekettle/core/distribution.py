"""What is the mean and spread of a random time, and how is one drawn?

Laws are given by their mean in seconds and, where they can have any, the coefficient of variation
(standard deviation over mean). Used for think times and for the practice system's service times.

Two laws are for services of which few take most of the time. The hyperexponential is a mixture of two exponentials that
carry half of the work each (balanced means: Allen 1990). The bounded Pareto spans a factor of 1,000 with a tail of
order 1.5 (Harchol-Balter, Crovella & Murta 1999); its coefficient of variation is 3.15.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from random import Random
from typing import Literal

from stonekettle.core.types import CoreInputError

LawName = Literal["fixed", "uniform", "exponential", "lognormal", "hyperexponential", "pareto"]
PARETO_ORDER, PARETO_SPAN = 1.5, 1000.0


@dataclass(frozen=True)
class Law:
    """A distribution of times. ``uniform`` spreads evenly over mean ± ``spread_s``."""

    name: LawName
    mean_s: float
    spread_s: float = 0.0
    variation: float = 0.5

    def __post_init__(self) -> None:
        if self.mean_s < 0:
            raise CoreInputError(f"mean_s must not be negative, not {self.mean_s}")
        if self.spread_s > self.mean_s:
            raise CoreInputError(f"spread_s must not exceed mean_s ({self.mean_s}), not {self.spread_s}")

    @property
    def coefficient_of_variation(self) -> float:
        """Standard deviation over mean; 0 for a time that is always 0."""
        if self.mean_s == 0 or self.name == "fixed":
            return 0.0
        if self.name == "uniform":
            return self.spread_s / math.sqrt(3) / self.mean_s
        if self.name == "pareto":
            return math.sqrt(_pareto_moment(2) / _pareto_moment(1) ** 2 - 1)
        return 1.0 if self.name == "exponential" else self.variation

    def sampler(self, random: Random) -> Callable[[], float]:
        """A function of no arguments that draws seconds, with everything looked up beforehand."""
        mean = self.mean_s
        if mean == 0 or self.name == "fixed":
            return lambda: mean
        if self.name == "uniform":
            low, high, uniform = mean - self.spread_s, mean + self.spread_s, random.uniform
            return lambda: uniform(low, high)
        if self.name == "exponential":
            rate, exponential = 1 / mean, random.expovariate
            return lambda: exponential(rate)
        if self.name == "hyperexponential":
            return _hyperexponential(mean, self.variation, random)
        if self.name == "pareto":
            return _bounded_pareto(mean, random)
        sigma = math.sqrt(math.log(1 + self.variation**2))
        mu, lognormal = math.log(mean) - sigma**2 / 2, random.lognormvariate
        return lambda: lognormal(mu, sigma)


def _hyperexponential(mean: float, variation: float, random: Random) -> Callable[[], float]:
    excess = (variation**2 - 1) / (variation**2 + 1)
    often = (1 + math.sqrt(max(excess, 0.0))) / 2
    short, long = 2 * often / mean, 2 * (1 - often) / mean
    chance, exponential = random.random, random.expovariate
    return lambda: exponential(short if chance() < often else long)


def _bounded_pareto(mean: float, random: Random) -> Callable[[], float]:
    least, chance = mean / _pareto_moment(1), random.random
    cut, power = 1 - PARETO_SPAN**-PARETO_ORDER, -1 / PARETO_ORDER
    return lambda: float(least * (1 - cut * chance()) ** power)


def _pareto_moment(k: int) -> float:
    """E[x^k] of the bounded Pareto law whose least value is 1."""
    order, span = PARETO_ORDER, PARETO_SPAN
    return float(order / (1 - span**-order) * (span ** (k - order) - 1) / (k - order))


class Deck:
    """Deals indices in the proportion of ``weights``, shuffled, without drift.

    Independent draws would let the mix wander, and its noise would hide the system's. A deck of
    a hundred cards keeps every stretch of a run close to the planned mix.
    """

    CARDS = 100

    def __init__(self, weights: Sequence[float], random: Random) -> None:
        if not weights or min(weights) < 0 or sum(weights) <= 0:
            raise CoreInputError("weights must hold numbers that are not negative, one of them positive")
        self._random = random
        self._shares = [w / sum(weights) for w in weights]
        self._owed = [0.0] * len(weights)
        self._cards: list[int] = []

    def draw(self) -> int:
        """The next index."""
        if not self._cards:
            self._deal()
        return self._cards.pop()

    def _deal(self) -> None:
        """A new deck; what rounding withheld from an index is owed to it in the next one."""
        self._owed = [o + s * self.CARDS for o, s in zip(self._owed, self._shares, strict=True)]
        for index, owed in enumerate(self._owed):
            cards = int(owed + 1e-9)
            self._cards += [index] * cards
            self._owed[index] -= cards
        self._random.shuffle(self._cards)
