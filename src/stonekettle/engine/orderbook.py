"""A generator's orders and lease: what it has been told, and what holds at a moment."""

from __future__ import annotations

import math
import sys
from collections.abc import Mapping
from typing import Any

from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Order, Ordered
from stonekettle.engine.leases import Lease

NOTHING = Order(0, 0.0, {}, paused=True)
"""What holds before the first order."""


def to_plain(order: Order) -> dict[str, Any]:
    """An order as plain data for JSON."""
    targets = {name: (t.start, t.end, t.over_s) for name, t in order.targets.items()}
    return {**vars(order), "targets": targets}


def from_plain(told: Mapping[str, Any]) -> Order:
    """The inverse of :func:`to_plain`, also after a way through JSON."""
    targets = {name: Target(*line) for name, line in told["targets"].items()}
    flags = (told["paused"], told["last"], told["haste"], told.get("cut", False))
    return Order(told["number"], told["at_s"], targets, *flags)


class OrderBook:
    """Orders wait here for their moment, leases likewise. Hearing one again changes nothing."""

    def __init__(self) -> None:
        self._orders: list[Order] = [NOTHING]
        self._leases: list[Lease] = []
        self.newest = 0
        """The number of the newest order heard."""

    @classmethod
    def of(cls, ordered: Ordered, lease: Lease) -> OrderBook:
        """A book in which everything stands from the beginning."""
        book = cls()
        for order in ordered.orders:
            book.hear(order)
        book.hear_lease(lease)
        return book

    def hear(self, order: Order) -> None:
        if order.number <= self.newest:
            return
        self.newest = order.number
        while len(self._orders) > 1 and self._orders[-1].at_s > order.at_s:
            self._orders.pop()  # it would have taken effect later, and the newer one holds by then
        self._orders.append(order)

    def hear_lease(self, lease: Lease) -> None:
        if not self._leases or lease.epoch > self._leases[-1].epoch:
            self._leases.append(lease)

    def close(self, t: float) -> None:
        """Nobody gives orders any more: let users go from ``t`` on, after their step."""
        self.hear(Order(self.newest + 1, t, {}, last=True, haste=True))
        self.newest = sys.maxsize

    @property
    def closed(self) -> bool:
        return self.newest == sys.maxsize

    def order_at(self, t: float) -> Order:
        """The order in effect at ``t``; asked with times that do not fall."""
        orders = self._orders
        while len(orders) > 1 and orders[1].at_s <= t:
            del orders[0]
        return orders[0]

    @property
    def changes_at(self) -> float:
        """When the order that was asked for last gives way to another, as far as is known."""
        return self._orders[1].at_s if len(self._orders) > 1 else math.inf

    def lease_at(self, t: float) -> Lease | None:
        """The lease that holds at ``t``; asked with times that do not fall."""
        leases = self._leases
        while len(leases) > 1 and leases[1].at_s <= t:
            del leases[0]
        return leases[0] if leases and leases[0].at_s <= t else None
