"""Servers in virtual time: in turn, shared by everybody, or one at a time under a lock; and pools before them."""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol

from stonekettle.practice.shapes import Pauses

Act = Callable[[float, Any], None]
Schedule = Callable[[float, Act, Any], None]
"""Have ``act(time, subject)`` done at a time."""


class Station(Protocol):
    """Servers of one resource. ``busy`` is the work done in each second."""

    servers: int
    busy: list[float]

    def serve(self, now: float, work_s: float, done: Act, subject: object) -> None:
        """Take ``work_s`` of work in; ``done(time, subject)`` when it is finished."""

    def settle(self, now: float) -> None:
        """Note the work done until now."""


class _Busy:
    def __init__(self, servers: int, pauses: Pauses) -> None:
        self.servers, self.pauses = servers, pauses
        self.busy: list[float] = []

    def note(self, start: float, end: float, at_once: float = 1.0) -> None:
        """Add the work in [start, end) of so many servers to the seconds it falls in."""
        first, last = int(start), int(end)
        busy = self.busy
        if last >= len(busy):
            busy += [0.0] * (last + 1 - len(busy))
        if first == last:
            busy[first] += at_once * (end - start)
            return
        whole = self.pauses.length_s <= 0
        for second in range(first, last + 1):
            low, high = max(start, second), min(end, second + 1)
            busy[second] += at_once * (high - low if whole else self.pauses.worked(low, high))

    def settle(self, now: float) -> None:
        """What is noted is noted when work is taken in."""


class InTurn(_Busy):
    """Servers with one queue, first come first served."""

    def __init__(self, servers: int, pauses: Pauses, schedule: Schedule) -> None:
        super().__init__(servers, pauses)
        self._free_at = [0.0] * servers
        self._schedule = schedule

    def serve(self, now: float, work_s: float, done: Act, subject: object) -> None:
        start = max(now, self._free_at[0])
        end = self.pauses.ends(start, work_s)
        heapq.heapreplace(self._free_at, end)
        self.note(start, end)
        self._schedule(end, done, subject)


class Shared(_Busy):
    """Servers that everybody inside shares evenly, nobody having more than one (processor sharing).

    What each has had since the start is a clock that all share; who leaves first is who needs the least of it.
    """

    def __init__(self, servers: int, pauses: Pauses, schedule: Schedule) -> None:
        super().__init__(servers, pauses)
        self._schedule = schedule
        self._had, self._looked, self._turn = 0.0, 0.0, 0
        self._inside: list[tuple[float, int, Act, object]] = []

    def serve(self, now: float, work_s: float, done: Act, subject: object) -> None:
        self._advance(now)
        self._turn += 1
        heapq.heappush(self._inside, (self._had + work_s, self._turn, done, subject))
        self._expect(now)

    def settle(self, now: float) -> None:
        """Nobody's work is noted before somebody comes or goes: note it up to now."""
        self._advance(now)

    def _advance(self, now: float) -> None:
        inside = len(self._inside)
        if inside and now > self._looked:
            self._had += self.pauses.worked(self._looked, now) * min(1.0, self.servers / inside)
            self.note(self._looked, now, min(inside, self.servers))
        self._looked = now

    def _expect(self, now: float) -> None:
        """Look again when the first one would leave, unless somebody comes before."""
        self._turn += 1
        if self._inside:
            inside = len(self._inside)
            left = max(self._inside[0][0] - self._had, 0.0) * max(1.0, inside / self.servers)
            self._schedule(self.pauses.ends(now, left), self._leave, self._turn)

    def _leave(self, now: float, turn: object) -> None:
        if turn != self._turn:
            return
        self._advance(now)
        _, _, done, subject = heapq.heappop(self._inside)
        self._expect(now)
        done(now, subject)


class Lock(_Busy):
    """One at a time, in turn; whoever holds it takes longer by the share ``growth`` for each one that waits."""

    def __init__(self, growth: float, pauses: Pauses, schedule: Schedule) -> None:
        super().__init__(1, pauses)
        self._growth, self._schedule = growth, schedule
        self._held = False
        self._waiting: deque[tuple[float, Act, object]] = deque()

    def serve(self, now: float, work_s: float, done: Act, subject: object) -> None:
        self._waiting.append((work_s, done, subject))
        if not self._held:
            self._next(now)

    def _next(self, now: float) -> None:
        self._held = bool(self._waiting)
        if self._held:
            work_s, done, subject = self._waiting.popleft()
            end = self.pauses.ends(now, work_s * (1 + self._growth * len(self._waiting)))
            self.note(now, end)
            self._schedule(end, self._let_go, (done, subject))

    def _let_go(self, now: float, held: tuple[Act, object]) -> None:
        done, subject = held
        self._next(now)
        done(now, subject)


@dataclass(slots=True)
class Places:
    """A pool: ``limit`` may be in at a time, the others wait in order. ``changes`` are of those in and of those
    waiting."""

    limit: int
    in_use: int = 0
    waiting: deque[tuple[Act, object]] = field(default_factory=deque)
    changes: list[tuple[float, int, int]] = field(default_factory=list)

    def enter(self, now: float, act: Act, subject: object) -> None:
        """Do ``act`` as soon as there is a place."""
        if self.in_use >= self.limit:
            self.waiting.append((act, subject))
            self.changes.append((now, 0, 1))
            return
        self.in_use += 1
        self.changes.append((now, 1, 0))
        act(now, subject)

    def leave(self, now: float) -> None:
        """Give the place on, or free it."""
        if self.waiting:
            act, subject = self.waiting.popleft()
            self.changes.append((now, 0, -1))
            act(now, subject)
        else:
            self.in_use -= 1
            self.changes.append((now, -1, 0))
