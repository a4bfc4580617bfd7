"""The levels of a run as its requests are told by them: those of its findings, or, before there are any, those that
were ordered."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from stonekettle.core.levels import MIN_HOLD_S, Level
from stonekettle.core.load import LoadKind
from stonekettle.core.types import IntArray
from stonekettle.report import numbers as n
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run


@dataclass(frozen=True)
class Held:
    """A level from ``start_s`` to before ``end_s``; ``load`` is what was felt of it, in users or arrivals per second,
    or ordered where nothing has been found yet."""

    number: int
    start_s: float
    end_s: float
    load: float
    kind: LoadKind

    @property
    def name(self) -> str:
        """As people call it: "Level 3, 180 users"."""
        return f"Level {self.number}, {n.load(self.load, self.kind)}"


def measured(run: Run) -> tuple[Level, ...]:
    """The levels that the findings rest on; none where there are no findings of today's analysis."""
    analysis = findings_of(run)
    return analysis.levels if analysis else ()


def of(run: Run, seconds: int) -> list[Held]:
    """The levels of a run of so many seconds in order of time, with the numbers that the findings give them."""
    if known := measured(run):
        return [Held(one.number, one.start_s, one.end_s, one.load.delivered, one.load.kind) for one in known]
    ordered = [
        one
        for one in run.ordered.levels()
        if one.users + one.rate > 0 and one.duration_s >= MIN_HOLD_S and one.start_s < seconds
    ]
    kind: LoadKind = "arrivals" if all(group.arrives for group in run.plan.people) else "users"
    return [Held(number, one.start_s, one.end_s, one.users + one.rate, kind) for number, one in enumerate(ordered, 1)]


def by_second(levels: Iterable[Held], seconds: int) -> IntArray:
    """The number of the level that each of so many seconds lies in, 0 where it lies in none, shape (seconds,)."""
    numbers = np.zeros(seconds, dtype=np.int64)
    for level in levels:
        numbers[max(0, math.ceil(level.start_s)) : max(0, math.floor(level.end_s))] = level.number
    return numbers
