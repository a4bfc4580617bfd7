"""How much load was planned for a group at a moment?

A profile is a chain of segments. The amount, users or arrivals per second, is a step function of time in
holds and climbs and a straight line in ramps. Times are seconds since the start of the run.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Literal

from stonekettle.core.types import CoreInputError


@dataclass(frozen=True)
class Target:
    """So much load from a moment on: from ``start`` in a straight line to ``end`` within ``over_s`` seconds,
    then steadily ``end``."""

    start: float
    end: float
    over_s: float = 0.0

    @classmethod
    def steady(cls, amount: float) -> Target:
        return cls(amount, amount)

    def after(self, passed_s: float) -> float:
        """The amount so many seconds later."""
        if passed_s >= self.over_s or self.over_s <= 0:
            return self.end
        return self.start + (self.end - self.start) * max(0.0, passed_s) / self.over_s

    def later(self, passed_s: float) -> Target:
        """The same line as it is told so many seconds later."""
        return Target(self.after(passed_s), self.end, max(0.0, self.over_s - passed_s))

    def scaled(self, factor: float) -> Target:
        return Target(self.start * factor, self.end * factor, self.over_s)

    @property
    def moving(self) -> bool:
        return self.over_s > 0 and self.start != self.end

    @property
    def peak(self) -> float:
        return max(self.start, self.end) if self.moving else self.end


@dataclass(frozen=True)
class Segment:
    """A stretch of planned load from ``start`` to ``end`` over ``duration_s`` seconds.

    ``stairs`` is the number of equal holds the change is made in; 0 means a straight line.
    """

    kind: Literal["hold", "climb", "ramp"]
    start: float
    end: float
    duration_s: float
    stairs: int

    @staticmethod
    def hold(amount: float, duration_s: float) -> Segment:
        return Segment("hold", amount, amount, duration_s, 1)

    @staticmethod
    def climb(start: float, end: float, by: float, hold_s: float) -> Segment:
        """Stairs from ``start`` to ``end``, ``by`` apart, each held ``hold_s`` seconds."""
        if by <= 0:
            raise CoreInputError(f"by must be positive, not {by}")
        stairs = math.floor(abs(end - start) / by + 1e-9) + 1
        last = start + math.copysign(by, end - start) * (stairs - 1)
        return Segment("climb", start, last, stairs * hold_s, stairs)

    @staticmethod
    def ramp(start: float, end: float, duration_s: float) -> Segment:
        return Segment("ramp", start, end, duration_s, 0)

    def targets(self) -> Iterator[tuple[float, Target]]:
        """When, from the segment's start, which target begins."""
        if self.stairs == 0:
            yield 0.0, Target(self.start, self.end, self.duration_s)
            return
        rise = (self.end - self.start) / max(1, self.stairs - 1)
        for stair in range(self.stairs):
            yield stair * self.duration_s / self.stairs, Target.steady(self.start + rise * stair)


@dataclass(frozen=True)
class LoadProfile:
    """Segments one after the other."""

    segments: tuple[Segment, ...]

    def scaled(self, factor: float) -> LoadProfile:
        parts = (replace(s, start=s.start * factor, end=s.end * factor) for s in self.segments)
        return LoadProfile(tuple(parts))

    @property
    def duration_s(self) -> float:
        return sum(segment.duration_s for segment in self.segments)

    @property
    def peak(self) -> float:
        return max((max(s.start, s.end) for s in self.segments), default=0.0)

    @property
    def area(self) -> float:
        """Load times seconds over the whole profile."""
        return sum((s.start + s.end) / 2 * s.duration_s for s in self.segments)

    def corners(self) -> list[tuple[float, Target]]:
        """Every moment at which a target begins, with it; the last is 0 at the end."""
        found, start = [], 0.0
        for segment in self.segments:
            found += [(start + at, target) for at, target in segment.targets()]
            start += segment.duration_s
        return [*found, (start, Target.steady(0))]
