"""How many instances of each component does an expected load need?

As many as keep every objective, and every resource at no more than 85 % (beyond, waits cannot be foretold), with so
many instances of any one component lost: in nine of ten of the worlds that the measurements leave possible (chance
constraints, Charnes & Cooper 1959). The search begins with what utilisation asks for, adds where the worst objective
gains most for its price, and then takes away what is not needed, the dearest first: steepest ascent for marginal
analysis (Fox 1966), which came to the cost of the best plan wherever all plans could be looked at.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from stonekettle.core.serving import Peak, Service, Serving
from stonekettle.core.types import CoreInputError, Estimate, FloatArray

FULLEST = 0.85
SURE = 0.9
MOST_INSTANCES = 2_000
FURTHEST = 64.0
"""A ceiling is looked for up to so many times the load of the plan."""
LEAST = 1000.0
STRIDE = 4.0
FINE = 0.01

Stop = Literal["light", "most"]
"""Why no number of instances suffices: an objective is missed where nobody waits, or more would be needed than are
allowed."""


@dataclass(frozen=True)
class Terms:
    """What a plan has to bear: with ``lost`` instances of any one component gone. ``prices`` of an instance of each
    component are per hour; without one it counts as one. At least ``least`` and at most ``most`` of each."""

    peak: Peak
    prices: Mapping[str, float]
    lost: int = 1
    least: Mapping[str, int] | None = None
    most: int = MOST_INSTANCES

    def price(self, part: str) -> float:
        return self.prices.get(part, 1.0)


@dataclass(frozen=True)
class Unplanned:
    """There is no plan: why, and of which goal (by its place) or component."""

    why: Stop
    subject: int | str


@dataclass(frozen=True)
class Ceiling:
    """The load up to which a component suffices, all others left aside; None: beyond all that was looked at."""

    component: str
    load: float | None


class Planner:
    """Plans for one system, its goals and terms."""

    def __init__(self, serving: Serving, terms: Terms) -> None:
        if not terms.peak.value > 0:
            raise CoreInputError(f"peak: {terms.peak.value:g} is no load. Give one above 0.")
        if terms.lost < 0:
            raise CoreInputError(f"lost: {terms.lost} instances cannot be lost. Give 0 or more.")
        self.serving, self._terms = serving, terms
        self.parts = serving.system.parts
        self._metered = [any(s.component == part for s in serving.system.stations) for part in self.parts]

    def plan(self) -> tuple[int, ...] | Unplanned:
        """How many instances of each component, in the order of the parts."""
        short = self.serving.missed_at_light(SURE)
        if short is not None:
            return Unplanned("light", short)
        begun = self._by_utilisation()
        if isinstance(begun, Unplanned):
            return begun
        counts = begun
        while (now := self.strain(counts)) > 1:
            gains = {k: self._gain(counts, k, now) for k in self._metered_places()}
            best = max(gains, key=gains.__getitem__)
            counts = self._more(counts, best, max(1, counts[best] // 16))
            if counts[best] > self._terms.most:
                return Unplanned("most", self.parts[best])
        return self._pruned(counts)

    def strain(self, counts: Sequence[int]) -> float:
        """How far the worst goal, or the room of the fullest resource, is used up in the worst loss: at most 1 where
        they hold."""
        return max(self._strain(self.serving.served(self._terms.peak, left)) for left in self._losses(counts))

    def holds(self, counts: Sequence[int], load: float | None = None) -> bool:
        """Whether so many suffice, for the peak or another ``load`` of its kind."""
        peak = self._terms.peak if load is None else self._peak(load)
        return all(self._bears(peak, left) for left in self._losses(counts))

    def worst(self, counts: Sequence[int]) -> tuple[int, ...]:
        """What is left of the instances in the loss that strains most."""
        peak = self._terms.peak
        return max(self._losses(counts), key=lambda left: self._strain(self.serving.served(peak, left)))

    def cost(self, counts: Sequence[int]) -> float:
        """Per hour, or in instances where they have no price."""
        return sum(count * self._terms.price(part) for part, count in zip(self.parts, counts, strict=True))

    def carried(self, counts: Sequence[int]) -> float | None:
        """The highest load at which so many suffice, within half a per cent; None where it is beyond all looked at."""
        return self._highest(lambda load: self.holds(counts, load))

    def ceilings(self, counts: Sequence[int]) -> tuple[Ceiling, ...]:
        """Up to which load each component would suffice if all others were ample, the lowest first."""
        found = []
        for k in self._metered_places():
            own = [count if k == other else MOST_INSTANCES * 10 for other, count in enumerate(counts)]

            def suffices(load: float, own: Sequence[int] = own, k: int = k) -> bool:
                return self._bears(self._peak(load), self._without(own, k))

            found.append(Ceiling(self.parts[k], self._highest(suffices)))
        return tuple(sorted(found, key=lambda one: one.load if one.load is not None else math.inf))

    def _peak(self, load: float) -> Peak:
        return replace(self._terms.peak, value=load)

    def _highest(self, suffices: Callable[[float], bool]) -> float | None:
        """By halving, in logs, from the peak up or down: 0 where even a thousandth of it is too much."""
        peak = self._terms.peak.value
        if suffices(peak):
            low, high = peak, STRIDE * peak
            while suffices(high):
                low, high = high, STRIDE * high
                if low >= FURTHEST * peak:
                    return None
        else:
            low, high = peak / STRIDE, peak
            while not suffices(low):
                low, high = low / STRIDE, low
                if high < peak / LEAST:
                    return 0.0
        while high > (1 + FINE) * low:
            middle = math.sqrt(low * high)
            low, high = (middle, high) if suffices(middle) else (low, middle)
        return low

    def _metered_places(self) -> list[int]:
        return [k for k, told in enumerate(self._metered) if told]

    def _losses(self, counts: Sequence[int]) -> Iterator[tuple[int, ...]]:
        """What is left where instances of one component are lost, a component at a time."""
        if self._terms.lost == 0:
            yield tuple(counts)
            return
        for k in self._metered_places():
            yield self._without(counts, k)

    def _without(self, counts: Sequence[int], k: int) -> tuple[int, ...]:
        return tuple(max(0, count - self._terms.lost) if k == other else count for other, count in enumerate(counts))

    def _bears(self, peak: Peak, left: Sequence[int]) -> bool:
        if np.quantile(self.serving.use(peak, left).max(axis=1), SURE) > FULLEST:
            return False
        return self._strain(self.serving.served(peak, left)) <= 1

    def _strain(self, service: Service) -> float:
        fullest = service.utilisation.max(axis=1) / FULLEST
        return float(np.quantile(np.maximum(fullest, service.used_up.max(axis=1)), SURE))

    def _least(self) -> list[int]:
        asked = self._terms.least or {}
        return [
            max(1, asked.get(part, 1), 1 + self._terms.lost if told else 1)
            for part, told in zip(self.parts, self._metered, strict=True)
        ]

    def _by_utilisation(self) -> tuple[int, ...] | Unplanned:
        """The fewest instances that keep every resource below what is allowed, at the rate that a load makes where
        nobody waits."""
        counts = self._least()
        ample = [MOST_INSTANCES * 10] * len(counts)
        rate = self.serving.served(self._terms.peak, ample).rate
        need = np.quantile(self.serving.instances_for(rate, FULLEST), SURE, axis=0)
        for k, part in enumerate(self.parts):
            if not self._metered[k]:
                continue
            counts[k] = max(counts[k], math.ceil(need[k] - 1e-9) + self._terms.lost)
            if counts[k] > self._terms.most:
                return Unplanned("most", part)
        return tuple(counts)

    def _gain(self, counts: Sequence[int], k: int, now: float) -> float:
        """What more of a component takes off the strain, in logs for its price."""
        more = max(1, counts[k] // 16)
        after = self.strain(self._more(counts, k, more))
        return (math.log(now) - math.log(max(after, 1e-3))) / (more * max(self._terms.price(self.parts[k]), 1e-9))

    def _more(self, counts: Sequence[int], k: int, by: int) -> tuple[int, ...]:
        return tuple(count + (by if k == other else 0) for other, count in enumerate(counts))

    def _pruned(self, counts: tuple[int, ...]) -> tuple[int, ...]:
        least = self._least()
        for k in sorted(self._metered_places(), key=lambda k: -self._terms.price(self.parts[k])):
            while counts[k] > least[k] and self.holds(fewer := self._more(counts, k, -1)):
                counts = fewer
        return counts


def interval(values: FloatArray) -> Estimate:
    """What draws tell, the first of them as estimated: 90 % interval."""
    return Estimate(float(values[0]), float(np.quantile(values, 0.05)), float(np.quantile(values, 0.95)))
