"""When do people come who come by themselves, at a rate that changes?

In operational time Λ(t), the integral of the rate, arrivals of any rate are those of rate one (Çinlar 1975):
exponential gaps of mean one for a Poisson process, whole steps for an even one. So a change of rate moves
what is still to come and forgets nothing. The n-th part of a Poisson process is one of an n-th of the rate;
of an even one each generator takes every n-th arrival.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from itertools import pairwise
from random import Random

from stonekettle.core.load_profile import Target


class ArrivalClock:
    """Tells the moments of one group's arrivals at one generator, asked with times that do not fall."""

    def __init__(self, random: Random, *, evenly: bool) -> None:
        self._random, self._evenly = random, evenly
        self._passed = 0.0
        self._next = 0.5 if evenly else random.expovariate(1.0)
        self._count = 0

    def between(
        self, start: float, end: float, target: Target, at_s: float, share: tuple[int, int] = (0, 1)
    ) -> Iterator[float]:
        """Arrivals in [``start``, ``end``) under a target that holds from ``at_s`` on, those of the index-th of count
        that ``share`` them."""
        index, count = share
        pieces = [start, end]
        if target.moving and start < at_s + target.over_s < end:
            pieces.insert(1, at_s + target.over_s)
        for a, b in pairwise(pieces):
            low, high = target.after(a - at_s), target.after(b - at_s)
            if not self._evenly:
                low, high = low / count, high / count
            yield from self._piece(a, b - a, low, high, index, count)

    def _piece(self, start: float, length: float, low: float, high: float, index: int, count: int) -> Iterator[float]:
        """Arrivals while the rate goes from ``low`` to ``high`` within ``length`` seconds."""
        area = (low + high) / 2 * length
        while self._passed + area > self._next:
            wanted = self._next - self._passed
            if not self._evenly or self._count % count == index:
                yield start + _when(wanted, low, (high - low) / length)
            self._count += 1
            self._next += 1.0 if self._evenly else self._random.expovariate(1.0)
        self._passed += area


def _when(area: float, rate: float, slope: float) -> float:
    """After how long a rate that grows by ``slope`` per second has summed up to ``area``."""
    if abs(slope) < 1e-12:
        return area / rate
    return (math.sqrt(max(0.0, rate * rate + 2 * slope * area)) - rate) / slope
