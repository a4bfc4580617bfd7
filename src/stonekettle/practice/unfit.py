"""Generators in virtual time that are not fit to measure: when do they get round to what is due?

A real loop looks now and then. What falls due, or is answered, while it does not look is handled when
it looks again, and all it knows of an answer is that it was not there at the look before.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from typing import Protocol

STALL_S = 0.02
"""Stretches longer than this are seen by a loop's metronome, and reported as stalls."""


class Loop(Protocol):
    """Handles events, asked in order of their time."""

    stalls: list[tuple[float, float]]

    def handled(self, at: float) -> tuple[float, float]:
        """When an event at ``at`` is handled, and since when the loop had not looked (s)."""


class Attentive:
    """A loop that is always there."""

    def __init__(self) -> None:
        self.stalls: list[tuple[float, float]] = []

    def handled(self, at: float) -> tuple[float, float]:
        return at, at


class Blocked:
    """A loop that does not look during ``stretches`` (s since the run's start, apart and in order)."""

    def __init__(self, stretches: Sequence[tuple[float, float]]) -> None:
        self._stretches = list(stretches)
        self._begins = [begin for begin, _ in stretches]
        self.stalls = [(begin, end) for begin, end in stretches if end - begin > STALL_S]

    def handled(self, at: float) -> tuple[float, float]:
        place = bisect_right(self._begins, at) - 1
        if place < 0 or self._stretches[place][1] <= at:
            return at, at
        begin, end = self._stretches[place]
        return end, begin


class Laborious:
    """A loop that works ``cost_s`` on each event: what happens meanwhile waits for its next round."""

    def __init__(self, cost_s: float) -> None:
        self._cost_s = cost_s
        self._begin = self._end = 0.0
        self._waiting = 0
        self.stalls: list[tuple[float, float]] = []

    def handled(self, at: float) -> tuple[float, float]:
        while self._waiting and at >= self._end:
            self._round(self._end, self._waiting)
        if at >= self._end:
            self._round(at, 1)
            return at, at
        self._waiting += 1
        return self._end + (self._waiting - 1) * self._cost_s, self._begin

    def _round(self, begin: float, events: int) -> None:
        self._begin, self._end, self._waiting = begin, begin + events * self._cost_s, 0
        if self._end - self._begin > STALL_S:
            self.stalls.append((self._begin, self._end))
