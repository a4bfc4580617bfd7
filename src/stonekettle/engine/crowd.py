"""Those of one group who are at one generator."""

from __future__ import annotations

from bisect import bisect_left, insort
from random import Random

from stonekettle.core.arrivals import ArrivalClock
from stonekettle.engine.leases import UNBOUNDED, Span
from stonekettle.engine.script import GroupTerms
from stonekettle.engine.user import User

ANY = UNBOUNDED
"""The slot of somebody who does any journey."""


class Crowd:
    """A group's people here; the last of ``present`` leave first, where people stay a time of their own the first."""

    def __init__(self, number: int, terms: GroupTerms, random: Random) -> None:
        self.number, self.terms = number, terms
        self.present: list[User] = []
        self.visitors: dict[User, None] = {}
        self.came: dict[User, float] = {}
        self.leaving = 0
        self.done = 0
        self.share: Span = (0, 0)
        self.clock = ArrivalClock(random, evenly=self.terms.evenly) if self.terms.arrives else None
        self.asked_until = 0.0
        self._taken: set[int] = set()

    def __len__(self) -> int:
        return len(self.visitors) if self.clock is not None else len(self.present)

    @property
    def here(self) -> int:
        return len(self) + self.leaving

    def free_slot(self) -> int:
        """A place for somebody who does one journey and no other, of those that are this generator's."""
        index, count = self.share
        slots = range(index, len(self.terms.fixed), max(1, count))
        return next((slot for slot in slots if slot not in self._taken), ANY)

    def add(self, user: User, at: float) -> None:
        """``at`` on the users' own clock."""
        if self.terms.stay_s:
            self.came[user] = at
        if self.clock is not None:
            self.visitors[user] = None
            return
        self._taken.add(user.slot)
        insort(self.present, user, key=_rank)

    def next_to_leave(self) -> User:
        if self.came:
            return next(iter(self.came))
        return next(reversed(self.visitors)) if self.clock is not None else self.present[-1]

    def stayed(self, now: float) -> User | None:
        """Somebody who has been here as long as people stay, by their own clock."""
        user = next(iter(self.came), None)
        return user if user is not None and now - self.came[user] >= self.terms.stay_s else None

    def remove(self, user: User) -> None:
        self.came.pop(user, None)
        if self.clock is not None:
            del self.visitors[user]
            return
        self._taken.discard(user.slot)
        del self.present[bisect_left(self.present, _rank(user), key=_rank)]


def _rank(user: User) -> tuple[int, int]:
    return user.slot, user.number
