"""The generators of a run as its lead knows them: who is there, and what each has been given.

Shares are dealt anew whenever somebody comes or is lost, among those who may play a group: every one of its users
has exactly one generator. Numbers and rows are dealt from counters that only rise.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from stonekettle.core.orders import Order
from stonekettle.engine.leases import Counter, Lease, Span, Stripe, add, portion, share_of, size_of
from stonekettle.engine.script import GroupTerms

ARRIVALS_AHEAD_S = 120.0
"""Numbers for arrivals are given so long ahead, for load to go on while the lead cannot be heard."""
ARRIVALS_LEAST_S = 75.0


@dataclass
class Member:
    """One generator and what it holds; ``told`` is what it said last."""

    name: str
    region: str
    numbers: tuple[Stripe, ...] = ()
    rows: dict[str, tuple[Stripe, ...]] = field(default_factory=dict)
    shares: dict[str, Span] = field(default_factory=dict)
    at_s: float = 0.0
    needed: int = 0
    for_arrivals: int = 0
    arrived: int = 0
    told: Mapping[str, Any] = field(default_factory=dict)
    lease: Lease | None = None
    behind_since: float | None = None
    finished: bool = False


class Fleet:
    """Members by name, in the order in which they came."""

    def __init__(self, groups: Sequence[GroupTerms], feeds: Mapping[str, int]) -> None:
        """``feeds`` are those used up, with their rows."""
        self.members: dict[str, Member] = {}
        self._groups = groups
        self._numbers = Counter()
        self._rows = {name: Counter(rows) for name, rows in feeds.items()}
        self._epoch = 0

    def join(self, name: str, region: str) -> None:
        self.members[name] = Member(name, region)

    def lose(self, name: str) -> Member | None:
        """One is gone; what it held is never given again."""
        return self.members.pop(name, None)

    def hear(self, name: str, second: Mapping[str, Any]) -> None:
        """What a member told with one of its seconds."""
        member = self.members.get(name)
        if member is not None:
            member.told = second.get("told", {})
            member.arrived = max(member.arrived, int(member.told.get("arrived", 0)))

    def abandoned(self) -> GroupTerms | None:
        """A group that nobody can play."""
        return next((terms for terms in self._groups if not self._players(terms)), None)

    def deal(self, at_s: float) -> None:
        """Divide every group among those who may play it, from ``at_s`` on."""
        for member in self.members.values():
            member.shares, member.at_s = {}, at_s
        for terms in self._groups:
            players = self._players(terms)
            for index, member in enumerate(players):
                member.shares[terms.name] = (index, len(players))

    def leases(self, orders: Sequence[Order], t: float) -> list[tuple[str, Lease]]:
        """The leases that have changed, with what these orders (in effect, and to come) ask for."""
        changed = []
        members = list(self.members.values())
        dealt = self._numbers.deal([self._missing(member, orders) for member in members])
        for member, stripes in zip(members, dealt, strict=True):
            for stripe in stripes:
                member.numbers = add(member.numbers, stripe)
            self._supply_rows(member)
            spent = frozenset(name for name, counter in self._rows.items() if counter.left == 0)
            held = (dict(member.shares), member.numbers, dict(member.rows), spent)
            old = member.lease
            if old is None or (old.shares, old.numbers, old.rows, old.spent) != held:
                self._epoch += 1
                member.lease = Lease(self._epoch, max(t, member.at_s), *held)
                changed.append((member.name, member.lease))
        return changed

    def _players(self, terms: GroupTerms) -> list[Member]:
        return [m for m in self.members.values() if terms.region in ("", m.region)]

    def _missing(self, member: Member, orders: Sequence[Order]) -> int:
        """So many numbers more it needs for these orders."""
        users, rate = 0, 0.0
        for terms in self._groups:
            share = member.shares.get(terms.name)
            if share is None:
                continue
            peaks = [order.targets[terms.name].peak for order in orders if terms.name in order.targets]
            if terms.arrives:
                rate += max(peaks, default=0.0) / share[1]
            else:
                users += max((share_of(peak, share) for peak in peaks), default=0)
            if terms.stay_s:  # each takes the place of somebody who left for good
                rate += max(peaks, default=0.0) / terms.stay_s / share[1]
        member.needed = max(member.needed, users + int(member.told.get("leaving", 0)))
        if member.arrived + rate * ARRIVALS_LEAST_S > member.for_arrivals:
            member.for_arrivals = member.arrived + round(rate * ARRIVALS_AHEAD_S) + 1
        return member.needed + member.for_arrivals - size_of(member.numbers)

    def _supply_rows(self, member: Member) -> None:
        taken = member.told.get("rows", {})
        for name, counter in self._rows.items():
            held = member.rows.get(name, ())
            some = portion(counter.left, len(self.members))
            if counter.left and size_of(held) - taken.get(name, 0) < max(1, some // 2):
                member.rows[name] = add(held, counter.take(some))
