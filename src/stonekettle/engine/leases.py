"""Who plays which part of the load: shares of users, user numbers and rows of feeds, handed out by the lead.

A lease tells the whole of what a generator has been given so far, so that one that arrives twice changes
nothing. Ranges are given once and never again, also where their owner was lost: nobody can know how far
it came. So no two users have one number, and no row that is used up is used twice.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

Span = tuple[int, int]
"""(index, count): the index-th of count that share something."""
Stripe = tuple[int, int, int]
"""Numbers from the first to before the end, so many apart."""
UNBOUNDED = 2**31
FEW_ROWS = 32


@dataclass(frozen=True)
class Lease:
    """What one generator holds from ``at_s`` (s since the run's start) on.

    ``shares`` are (index, count) by group: it plays every count-th user, beginning with the index-th, and
    one in count of the arrivals. ``rows`` are of feeds that are used up, by name; a feed is ``spent`` when
    all its rows have been given to somebody.
    """

    epoch: int
    at_s: float
    shares: Mapping[str, Span]
    numbers: tuple[Stripe, ...]
    rows: Mapping[str, tuple[Stripe, ...]] = field(default_factory=dict)
    spent: frozenset[str] = frozenset()

    @classmethod
    def alone(cls, groups: Iterable[str], feeds: Mapping[str, int]) -> Lease:
        """Everything, for a generator that shares with nobody; ``feeds`` are those used up, with their rows."""
        whole = {name: ((0, rows, 1),) for name, rows in feeds.items()}
        return cls(0, 0.0, dict.fromkeys(groups, (0, 1)), ((0, UNBOUNDED, 1),), whole, frozenset(feeds))

    def as_dict(self) -> dict[str, Any]:
        return {**vars(self), "spent": sorted(self.spent)}

    @classmethod
    def of(cls, told: Mapping[str, Any]) -> Lease:
        """The inverse of :meth:`as_dict`, also after a way through JSON."""
        return cls(
            told["epoch"],
            told["at_s"],
            {name: (index, count) for name, (index, count) in told["shares"].items()},
            tuple((first, end, apart) for first, end, apart in told["numbers"]),
            {name: tuple((a, b, c) for a, b, c in stripes) for name, stripes in told["rows"].items()},
            frozenset(told["spent"]),
        )


def share_of(amount: float, share: Span) -> int:
    """So many of ``amount`` users belong to one of several that share them."""
    index, count = share
    return max(0, (round(amount) - index + count - 1) // count)


def add(stripes: Sequence[Stripe], stripe: Stripe) -> tuple[Stripe, ...]:
    """The stripes with one more, joined to the last where it follows on."""
    if not range(*stripe):
        return tuple(stripes)
    if stripes and stripes[-1][1:] == (stripe[0], 1) and stripe[2] == 1:
        return (*stripes[:-1], (stripes[-1][0], stripe[1], 1))
    return (*stripes, stripe)


def size_of(stripes: Iterable[Stripe]) -> int:
    return sum(len(range(*stripe)) for stripe in stripes)


class Counter:
    """Hands out numbers from 0 on, up to ``end``."""

    def __init__(self, end: int = UNBOUNDED) -> None:
        self.next, self.end = 0, end

    @property
    def left(self) -> int:
        return self.end - self.next

    def take(self, wanted: int) -> Stripe:
        """The next ones, at most those that are left."""
        first = self.next
        self.next = min(self.end, first + max(0, wanted))
        return first, self.next, 1

    def deal(self, wanted: Sequence[int]) -> list[list[Stripe]]:
        """So many for each of several, in turn: low numbers, for which there may be rows, are spread evenly."""
        left, dealt = list(wanted), [list[Stripe]() for _ in wanted]
        while takers := [i for i, n in enumerate(left) if n > 0]:
            each = min(left[i] for i in takers)
            first, end, _ = self.take(each * len(takers))
            for place, i in enumerate(takers):
                dealt[i].append((first + place, end, len(takers)))
                left[i] -= each
        return dealt


def portion(left: int, members: int) -> int:
    """So many rows are given at once, of ``left`` ones that ``members`` share: half of what would be each one's, so
    that a lost generator takes little with it and all of them run out together."""
    if left <= FEW_ROWS * members:
        return -(-left // members)
    return left // (2 * members)


class Stock:
    """What one generator was given of a row of numbers, taken one after the other."""

    def __init__(self) -> None:
        self._stripes: tuple[Stripe, ...] = ()
        self._place = self._taken_here = 0
        self.taken = 0

    def give(self, stripes: tuple[Stripe, ...]) -> None:
        """All it has been given so far; stripes only grow at their end, and become more."""
        self._stripes = stripes

    @property
    def empty(self) -> bool:
        """Whether there is none now."""
        return self.peek() is None

    def peek(self) -> int | None:
        """The next one, left where it is; None where there is none now."""
        taken = self._taken_here
        for first, end, apart in self._stripes[self._place :]:
            if first + taken * apart < end:
                return first + taken * apart
            taken = 0
        return None

    def take(self) -> int | None:
        """The next one, or None where there is none now."""
        while self._place < len(self._stripes):
            first, end, apart = self._stripes[self._place]
            number = first + self._taken_here * apart
            if number < end:
                self._taken_here += 1
                self.taken += 1
                return number
            if self._place + 1 == len(self._stripes):
                return None
            self._place, self._taken_here = self._place + 1, 0
        return None
