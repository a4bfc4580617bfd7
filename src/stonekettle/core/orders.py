"""What load was ordered, from when on, and which stretches of it are levels?

An order tells the whole truth from its moment on: a target for every group. So an order that arrives twice
changes nothing, and who comes late needs only the newest. Numbers and moments never fall, therefore the
order in effect at t is the last one whose moment is not after t. Times are seconds since the run's start.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import pairwise

import numpy as np

from stonekettle.core.load import LoadKind
from stonekettle.core.load_profile import LoadProfile, Target
from stonekettle.core.types import CoreInputError, FloatArray

RAMP_BINS = 8
MIN_BIN_S = 10.0


@dataclass(frozen=True)
class PlannedLevel:
    """A stretch of load to be analysed as one; ``moving`` when the load was not constant. ``users`` are those
    of the groups counted in users, ``rate`` the arrivals per second of the others, ``parts`` each group's."""

    start_s: float
    end_s: float
    users: float
    moving: bool = False
    rate: float = 0.0
    parts: tuple[tuple[str, float], ...] = ()

    @property
    def duration_s(self) -> float:
        return self.end_s - self.start_s


@dataclass(frozen=True)
class Order:
    """From ``at_s`` on: a target for each group by name. While ``paused`` users finish their step and wait,
    and nobody arrives. After the ``last`` one nobody comes any more; in ``haste`` users leave after their
    step even where their group says journey, and where it is a ``cut`` what they wait for is ended too."""

    number: int
    at_s: float
    targets: Mapping[str, Target]
    paused: bool = False
    last: bool = False
    haste: bool = False
    cut: bool = False

    def amount(self, group: str, t: float) -> float:
        """The load ordered for a group at ``t``, under this order."""
        target = self.targets.get(group)
        return 0.0 if target is None or self.last else target.after(t - self.at_s)


@dataclass(frozen=True)
class Ordered:
    """All orders of a run, as the record of it. ``arrivals`` names the groups that come by rate; the others
    are counted in users."""

    orders: tuple[Order, ...]
    arrivals: frozenset[str] = field(default_factory=frozenset)

    def __post_init__(self) -> None:
        pairs = pairwise(self.orders)
        if any(b.number <= a.number or b.at_s < a.at_s for a, b in pairs):
            raise CoreInputError("orders must have rising numbers and moments that do not fall")

    @cached_property
    def _moments(self) -> list[float]:
        return [order.at_s for order in self.orders]

    @property
    def groups(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(name for order in self.orders for name in order.targets))

    @property
    def load_kind(self) -> LoadKind:
        """What the load is counted in: arrivals where everybody comes by rate."""
        return "arrivals" if self.groups and self.arrivals.issuperset(self.groups) else "users"

    @property
    def duration_s(self) -> float:
        """When the last order took effect; infinite while there is none."""
        return next((order.at_s for order in self.orders if order.last), float("inf"))

    @property
    def peak_users(self) -> float:
        """The most users ordered at a time, over the groups counted in users."""
        return max((users for _, users, _ in self.corners()), default=0.0)

    @property
    def peak_rate(self) -> float:
        """The most arrivals per second ordered at a time."""
        return max((rate for _, _, rate in self.corners()), default=0.0)

    def in_effect(self, t: float) -> Order | None:
        place = bisect_right(self._moments, t) - 1
        return self.orders[place] if place >= 0 else None

    def amount(self, group: str, t: float) -> float:
        """Load ordered for a group at ``t``: users present (waiting, while paused), or arrivals per second."""
        order = self.in_effect(t)
        if order is None or (order.paused and group in self.arrivals):
            return 0.0
        return order.amount(group, t)

    def mean_users(self, seconds: int) -> FloatArray:
        """Mean users ordered in each second, shape (seconds,), over the groups counted in users."""
        return self._means(seconds, [(t, users) for t, users, _ in self.corners(seconds)])

    def mean_arrivals(self, seconds: int) -> FloatArray:
        """Mean arrivals per second ordered in each second, shape (seconds,), over the groups that arrive."""
        return self._means(seconds, [(t, rate) for t, _, rate in self.corners(seconds)])

    @staticmethod
    def _means(seconds: int, corners: Sequence[tuple[float, float]]) -> FloatArray:
        """Means over each second of a line given by its corners, 0 outside them."""
        if not corners:
            return np.zeros(seconds)
        t, y = np.array(corners, dtype=np.float64).T
        areas = np.concatenate([[0.0], np.cumsum(np.diff(t) * (y[1:] + y[:-1]) / 2)])
        edges = np.clip(np.arange(seconds + 1, dtype=np.float64), t[0], t[-1])
        place = np.clip(np.searchsorted(t, edges, side="right") - 1, 0, max(0, len(t) - 2))
        if len(t) < 2:
            return np.zeros(seconds)
        width = np.maximum(t[place + 1] - t[place], 1e-12)
        into = edges - t[place]
        slope = (y[place + 1] - y[place]) / width
        return np.diff(areas[place] + into * (y[place] + slope * into / 2))

    def levels(self) -> tuple[PlannedLevel, ...]:
        """Stretches of steady load as levels, ramps in equal bins. Neighbours in which every group has the
        same load are one; a pause parts them, since the system comes to rest in it."""
        runs: list[list[PlannedLevel]] = [[]]
        for order, end in zip(self.orders, [*self._moments[1:], None], strict=True):
            if order.paused:
                runs.append([])
                continue
            if order.last or end is None:
                break
            runs[-1] += self._pieces(order, end)
        return tuple(level for run in runs for level in _joined(run))

    def _pieces(self, order: Order, end: float) -> Iterable[PlannedLevel]:
        """The stretches of one order, cut where a group's line comes to its end."""
        ends = (order.at_s + target.over_s for target in order.targets.values() if target.moving)
        edges = [order.at_s, *sorted({edge for edge in ends if edge < end}), end]
        for start, stop in pairwise(edges):
            moving = any(t.moving and order.at_s + t.over_s > start for t in order.targets.values())
            for a, b in _bins(start, stop, moving):
                parts = tuple((name, order.amount(name, (a + b) / 2)) for name in sorted(order.targets))
                users, rate = self._sums(order, (a + b) / 2)
                if not users and not rate:
                    continue  # where nobody is there is nothing to be analysed
                yield PlannedLevel(a, b, users, moving, rate, parts)

    def mean_amounts(self, group: str, seconds: int) -> FloatArray:
        """Mean load ordered for a group in each second, shape (seconds,): users, or arrivals per second."""
        arrives = group in self.arrivals
        corners = [
            (t, 0.0 if order.paused and arrives else order.amount(group, t)) for order, t in self._turns(seconds)
        ]
        return self._means(seconds, corners)

    def corners(self, until_s: float = 0.0) -> list[tuple[float, float, float]]:
        """The ordered line's corners: (t, users, arrivals per second), two at a jump. A line that has no end yet goes
        on to ``until_s``, or until it is steady."""
        return [(t, *self._sums(order, t)) for order, t in self._turns(until_s)]

    def _turns(self, until_s: float) -> Iterable[tuple[Order, float]]:
        """Each order with the moments at which its lines begin, turn and end."""
        for order, after in zip(self.orders, [*self._moments[1:], None], strict=True):
            if order.last:
                break
            ends = {order.at_s + target.over_s for target in order.targets.values() if target.moving}
            end = max([order.at_s, until_s, *ends]) if after is None else after
            for t in [order.at_s, *sorted(t for t in ends if t < end), end]:
                yield order, t

    def _sums(self, order: Order, t: float) -> tuple[float, float]:
        amounts = [(name in self.arrivals, order.amount(name, t)) for name in order.targets]
        if order.paused:
            amounts = [(arriving, 0.0 if arriving else n) for arriving, n in amounts]
        return sum(n for arriving, n in amounts if not arriving), sum(n for arriving, n in amounts if arriving)


def planned(profiles: Mapping[str, LoadProfile], arrivals: Collection[str] = ()) -> Ordered:
    """The orders of a run that goes as planned: a profile for each group, all ending together with the last."""
    lines = {name: profile.corners() for name, profile in profiles.items()}
    end = max((profile.duration_s for profile in profiles.values()), default=0.0)
    moments = sorted({t for line in lines.values() for t, _ in line if t < end})
    orders = [
        Order(number, t, {name: _told(line, t) for name, line in lines.items()})
        for number, t in enumerate(moments, start=1)
    ]
    nobody = {name: Target.steady(0) for name in lines}
    return Ordered((*orders, Order(len(orders) + 1, end, nobody, last=True)), frozenset(arrivals))


def as_planned(profile: LoadProfile) -> Ordered:
    """The orders of a run of one group of users that goes as planned."""
    return planned({"everyone": profile})


def with_order(ordered: Ordered, order: Order) -> Ordered:
    """The record with one order more."""
    return replace(ordered, orders=(*ordered.orders, order))


def _told(line: Sequence[tuple[float, Target]], t: float) -> Target:
    """What a group's line says at ``t``, told from there on."""
    place = bisect_right([at for at, _ in line], t) - 1
    if place < 0:
        return Target.steady(0)
    at, target = line[place]
    return target.later(t - at)


def _bins(start: float, end: float, moving: bool) -> Iterable[tuple[float, float]]:
    """The stretch as one; where load moves, in equal bins long enough to tell something."""
    parts = max(1, min(RAMP_BINS, math.floor((end - start) / MIN_BIN_S + 1e-9))) if moving else 1
    length = (end - start) / parts
    return ((start + i * length, start + (i + 1) * length) for i in range(parts))


def _joined(pieces: Sequence[PlannedLevel]) -> list[PlannedLevel]:
    """Neighbours with the same steady load as one."""
    found: list[PlannedLevel] = []
    for piece in pieces:
        last = found[-1] if found else None
        if last and not last.moving and not piece.moving and (last.end_s, last.parts) == (piece.start_s, piece.parts):
            found[-1] = replace(last, end_s=piece.end_s)
        else:
            found.append(piece)
    return found
