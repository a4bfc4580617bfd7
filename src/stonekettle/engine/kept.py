"""Which requests are kept whole, with their headers and the beginnings of their bodies?

Of each step: failures (the first 20 of a kind under each order, then 1 %), the slowest 50 under each order, and 200 of
the run by chance. Those are the ones with the lowest of random numbers drawn for all: the lowest of several generators
are a fair sample of all their requests (bottom-k sampling, Cohen & Kaplan 2007). Looking at answers costs the loop
time, so that of many a second only some, spread over it, are looked at; at most loads these are all.
"""

from __future__ import annotations

import heapq
from collections import Counter
from dataclasses import dataclass
from random import Random
from typing import Literal, TypeVar

LOOKED_AT = 100
"""So many requests a second may be kept whole, of each generator."""
FIRST_FAILURES, LATER_FAILURES = 20, 0.01
SLOWEST = 50
SAMPLE = 200
EXCERPT = 16_000
"""So much of a body is kept, in characters, and of headers."""
MOST_WAITING = 200
"""So many at most are told with a second."""

Why = Literal["failed", "slow", "sample"]


@dataclass(frozen=True)
class Whole:
    """A main request with its answer; ``error`` is empty where it succeeded. ``chance`` is the random number drawn for
    it (0..1); times in µs, ``start_us`` from the run's start."""

    start_us: int
    user: int
    visit: int
    group: int
    step: int
    status: int
    error: str
    total_us: int
    blind_us: int
    why: Why
    chance: float
    method: str
    url: str
    sent_headers: str
    sent_body: str
    headers: str
    body: str
    size: int


class Choice:
    """Decides for each request that was looked at, as it ends."""

    def __init__(self, random: Random) -> None:
        self._random = random
        self._order = 0
        self._failures: Counter[tuple[int, int]] = Counter()
        self._slowest: dict[int, list[int]] = {}
        self._sample: dict[int, list[float]] = {}

    def follow(self, order: int) -> None:
        """Another order is in effect: what counts under each begins anew."""
        if order != self._order:
            self._order = order
            self._failures.clear()
            self._slowest.clear()

    def why(self, step: int, error: int, total_us: int) -> tuple[Why, float] | None:
        """Why to keep it, and its chance; None where it need not be kept."""
        chance = self._random.random()
        by_chance = _among(self._sample.setdefault(step, []), -chance, SAMPLE)
        if error:
            self._failures[step, error] += 1
            if self._failures[step, error] <= FIRST_FAILURES or chance < LATER_FAILURES:
                return "failed", chance
        elif _among(self._slowest.setdefault(step, []), total_us, SLOWEST):
            return "slow", chance
        return ("sample", chance) if by_chance else None


Number = TypeVar("Number", int, float)


def _among(heap: list[Number], value: Number, most: int) -> bool:
    """Whether ``value`` is among the ``most`` greatest so far, which the heap holds."""
    if len(heap) < most:
        heapq.heappush(heap, value)
        return True
    if value <= heap[0]:
        return False
    heapq.heapreplace(heap, value)
    return True
