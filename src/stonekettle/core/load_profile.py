"""How much load was planned at a moment, and which stretches of it are levels?

A profile is a chain of segments. Users are a step function of time in holds and climbs and a
straight line in ramps. Times are seconds since the start of the run.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.types import CoreInputError, FloatArray

RAMP_BINS = 8
MIN_BIN_S = 10.0


@dataclass(frozen=True)
class Segment:
    """A stretch of planned load from ``start_users`` to ``end_users`` over ``duration_s`` seconds.

    ``stairs`` is the number of equal holds the change is made in; 0 means a straight line.
    """

    kind: Literal["hold", "climb", "ramp"]
    start_users: float
    end_users: float
    duration_s: float
    stairs: int

    @staticmethod
    def hold(users: float, duration_s: float) -> Segment:
        return Segment("hold", users, users, duration_s, 1)

    @staticmethod
    def climb(start: float, end: float, by: float, hold_s: float) -> Segment:
        """Stairs from ``start`` to ``end`` users, ``by`` users apart, each held ``hold_s`` seconds."""
        if by <= 0:
            raise CoreInputError(f"by must be positive, not {by}")
        stairs = math.floor(abs(end - start) / by + 1e-9) + 1
        last = start + math.copysign(by, end - start) * (stairs - 1)
        return Segment("climb", start, last, stairs * hold_s, stairs)

    @staticmethod
    def ramp(start: float, end: float, duration_s: float) -> Segment:
        return Segment("ramp", start, end, duration_s, 0)


@dataclass(frozen=True)
class PlannedLevel:
    """A stretch of load to be analysed as one; ``moving`` when the load was not constant."""

    start_s: float
    end_s: float
    users: float
    moving: bool = False

    @property
    def duration_s(self) -> float:
        return self.end_s - self.start_s


@dataclass(frozen=True)
class LoadProfile:
    """Segments one after the other."""

    segments: tuple[Segment, ...]

    @property
    def duration_s(self) -> float:
        return sum(segment.duration_s for segment in self.segments)

    @property
    def peak_users(self) -> float:
        return max((max(s.start_users, s.end_users) for s in self.segments), default=0.0)

    def users_at(self, t: float) -> float:
        """Planned users at ``t`` seconds; 0 before the start and from the end on."""
        start = 0.0
        for segment in self.segments:
            if start <= t < start + segment.duration_s:
                return _users_within(segment, (t - start) / segment.duration_s)
            start += segment.duration_s
        return 0.0

    def users_over(self, times: FloatArray) -> FloatArray:
        """Planned users at each of ``times`` (shape (n,)), in seconds."""
        return np.array([self.users_at(float(t)) for t in times], dtype=np.float64)

    def levels(self) -> tuple[PlannedLevel, ...]:
        """Holds and stairs as levels; neighbours with the same load are one; ramps in equal bins."""
        pieces: list[PlannedLevel] = []
        start = 0.0
        for segment in self.segments:
            pieces.extend(_levels_within(segment, start))
            start += segment.duration_s
        return tuple(_join_equal_neighbours(pieces))


def _users_within(segment: Segment, share: float) -> float:
    change = segment.end_users - segment.start_users
    if segment.stairs == 0:
        return segment.start_users + change * share
    if segment.stairs == 1:
        return segment.start_users
    return segment.start_users + change * math.floor(share * segment.stairs + 1e-9) / (segment.stairs - 1)


def _levels_within(segment: Segment, start: float) -> list[PlannedLevel]:
    moving = segment.stairs == 0
    parts = segment.stairs
    if moving:
        parts = max(1, min(RAMP_BINS, math.floor(segment.duration_s / MIN_BIN_S)))
    length = segment.duration_s / parts
    return [
        PlannedLevel(
            start + i * length,
            start + (i + 1) * length,
            _users_within(segment, (i + 0.5) / parts),
            moving,
        )
        for i in range(parts)
    ]


def _join_equal_neighbours(pieces: Sequence[PlannedLevel]) -> list[PlannedLevel]:
    joined: list[PlannedLevel] = []
    for piece in pieces:
        last = joined[-1] if joined else None
        if last and not last.moving and not piece.moving and last.users == piece.users:
            joined[-1] = PlannedLevel(last.start_s, piece.end_s, piece.users)
        else:
            joined.append(piece)
    return joined
