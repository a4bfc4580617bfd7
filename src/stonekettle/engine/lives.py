"""Virtual users' lives: which journey with which row comes next, and what to do when.

A life is a state machine that yields what to send and how long to wait; it does no I/O.
"""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable, Generator, Mapping, Sequence
from enum import Enum
from random import Random

from stonekettle.core.distribution import Deck
from stonekettle.engine.leases import UNBOUNDED, Lease, Span, Stock
from stonekettle.engine.script import GroupTerms, Request, Script

AGAIN_S = 0.05
"""Who finds no row leased yet asks again so much later."""


class Wanting(Enum):
    """Why no journey was dealt: rows have yet to be leased, or there are none for this user any more."""

    LATER = "later"
    NEVER = "never"


Dealt = tuple[tuple[Request, ...], Mapping[str, str]]


class Dealer:
    """Gives each journey begun its journey and its row, for all users of a generator."""

    def __init__(self, script: Script, random: Random) -> None:
        self._script, self.random = script, random
        self._decks = [Deck(group.weights, random) if any(group.weights) else None for group in script.groups]
        self.stocks = {feed.name: Stock() for feed in script.feeds if feed.is_used_up}
        self._spent: frozenset[str] = frozenset()
        self._begun = 0
        self._share: Span = (0, 1)

    def terms(self, group: int) -> GroupTerms:
        return self._script.groups[group]

    def hold(self, lease: Lease) -> None:
        """Deal from what this lease gives."""
        for name, stock in self.stocks.items():
            stock.give(lease.rows.get(name, ()))
        self._spent = lease.spent
        self._share = next(iter(lease.shares.values()), (0, 1))

    def outlook(self, number: int) -> Wanting | None:
        """Why the user of this number (from 0) would be dealt nothing; None where it would be."""
        for feed in self._script.feeds:
            if feed.take == "one per user" and feed.end == "retire" and number >= len(feed.rows):
                return Wanting.NEVER
        for name, stock in self.stocks.items():
            if stock.empty:
                return Wanting.NEVER if name in self._spent else Wanting.LATER
        return None

    def next(self, number: int, group: int, slot: int) -> Dealt | Wanting:
        """A journey and its row for the user of this number (from 0); ``slot`` is its place among those of its
        group who do one journey and no other."""
        wanting = self.outlook(number) if self._script.feeds else None
        if wanting is not None:
            return wanting
        row: dict[str, str] = {}
        index, count = self._share
        for feed in self._script.feeds:
            if feed.take == "one per user":
                place = number
            elif feed.take == "at random":
                place = self.random.randrange(len(feed.rows))
            elif feed.is_used_up:
                place = self.stocks[feed.name].take() or 0
            else:
                place = self._begun * count + index
            row.update(feed.rows.row(place))
        self._begun += 1
        fixed, deck = self._script.groups[group].fixed, self._decks[group]
        chosen = fixed[slot % len(fixed)] if slot < len(fixed) or deck is None else deck.draw()
        journey = self._script.journeys[chosen]
        sample = self._script.samples[journey[0].journey]
        return journey, {**sample, **row} if sample else row


class Values(dict[str, str]):
    """What a journey's requests can use: its row, what it kept, and the built-in values."""

    def __init__(self, row: Mapping[str, str], user: int, iteration: int, random: Random) -> None:
        super().__init__(row)
        self._random = random
        self.visit = iteration
        self["user_number"], self["iteration"] = str(user), str(iteration)

    def __missing__(self, name: str) -> str:
        """A value made anew each time it is used."""
        if name == "random_number":
            return str(self._random.randrange(1_000_000_000))
        if name == "timestamp":
            return str(int(time.time()))
        if name == "uuid":
            return str(uuid.UUID(int=self._random.getrandbits(128), version=4))
        raise KeyError(name)


class Farewell(Enum):
    """Why a life came to its end by itself: all journeys done, or no row for another."""

    DONE = "done"
    NO_ROW = "no row"


Action = float | tuple[Request, Values] | None
"""Wait so many seconds; send this; or None: a journey is over."""
Life = Generator[Action, bool, Farewell]


def walk(
    dealer: Dealer,
    thinks: Sequence[Callable[[], float]],
    number: int,
    group: int = 0,
    slot: int = UNBOUNDED,
    before: int = 0,
) -> Life:
    """A virtual user's life as actions, for somebody who has made so many visits ``before``.

    After a request it is sent whether the step succeeded. A failed step ends the journey; the
    user thinks and begins another. The first wait lets users who join together start apart; who arrives
    starts at once.
    """
    terms = dealer.terms(group)
    iteration = first = before
    while terms.each is None or iteration - first < terms.each:
        while (dealt := dealer.next(number, group, slot)) is Wanting.LATER:
            yield AGAIN_S
        if isinstance(dealt, Wanting):
            return Farewell.NO_ROW
        journey, row = dealt
        iteration += 1
        values = Values(row, number + 1, iteration, dealer.random)
        if iteration == first + 1 and not terms.arrives:
            yield thinks[journey[0].step]()
        for request in journey:
            succeeded = yield request, values
            if not succeeded or request.last:
                yield None
            yield thinks[request.step]()
            if not succeeded:
                break
    return Farewell.DONE
