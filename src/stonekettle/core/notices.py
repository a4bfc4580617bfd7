"""What deserves a look while a run goes on: conditions on the last seconds that begin, last and end.

A condition begins where it is sure by what its seconds hold together, and ends once it has not held for a while: one
that is on the edge is told once, not each second.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from itertools import accumulate
from typing import Literal

from stonekettle.core.objectives import wilson

Kind = Literal["objective", "errors", "order", "blur", "stop rule", "cost", "memory"]
DISPERSION = 4.0
"""Requests are not independent: so many of them tell as much as one that was (the shrinkage target of the early stop
of a search)."""
QUIET_S = 10
"""So long a condition must not have held to be over."""
EASED = 0.9
"""It has not held where its value is under so much of the limit."""


@dataclass(frozen=True)
class Notice:
    """A condition that held from ``since_s`` on, to ``until_s`` (None: it still does). ``value`` is the worst share so
    far; ``where`` the instance that it is of, if it is mostly of one."""

    kind: Kind
    subject: str
    since_s: int
    until_s: int | None
    value: float
    limit: float
    where: str = ""


class Condition:
    """A share of something over the last ``length`` seconds against a limit: what was slow among what was answered, who
    is missing among who should be there. Of countable things (``counted``) chance is left its part, by the lower bound
    of Wilson's (1927) interval."""

    def __init__(self, kind: Kind, subject: str, limit: float, length: int, *, counted: bool = False) -> None:
        self.kind, self.subject, self.limit, self.length, self.counted = kind, subject, limit, length, counted
        self.notices: list[Notice] = []
        self._parts: deque[tuple[float, float]] = deque(maxlen=length)
        self._quiet = 0

    @property
    def value(self) -> float | None:
        """The share now; None where too little is known."""
        whole = sum(whole for _, whole in self._parts)
        if len(self._parts) < self.length or whole <= 0:
            return None
        return sum(part for part, _ in self._parts) / whole

    def hear(self, second: int, part: float, whole: float) -> None:
        """Another second of the run."""
        self._parts.append((part, whole))
        value = self.value
        now = self.notices[-1] if self.notices and self.notices[-1].until_s is None else None
        if value is None:
            return
        if now is None:
            if self._sure(value):
                since = max(0, second - self.length + 1 + self._first())
                self.notices.append(Notice(self.kind, self.subject, since, None, value, self.limit))
                self._quiet = 0
            return
        self._quiet = 0 if value > EASED * self.limit else self._quiet + 1
        over = second - QUIET_S + 1 if self._quiet >= QUIET_S else None
        self.notices[-1] = Notice(self.kind, self.subject, now.since_s, over, max(now.value, value), self.limit)

    def _sure(self, value: float) -> bool:
        if not self.counted:
            return value > self.limit
        n = sum(whole for _, whole in self._parts) / DISPERSION
        return wilson(value, n)[0] > self.limit

    def _first(self) -> int:
        """From which of its seconds on the condition has held: where the sum of what exceeds the limit was least before
        it rose (Page 1954)."""
        excess = [0.0, *accumulate(part - self.limit * whole for part, whole in self._parts)]
        return min(range(len(self._parts)), key=lambda place: (excess[place], -place))
