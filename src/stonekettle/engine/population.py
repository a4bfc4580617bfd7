"""The people of a generator: who is there, who comes and who goes, as orders say. Does no I/O.

A :class:`Stage` gives users what they need and sends their requests. Due times are kept on the users' own
clock, which stands while the run is paused: nobody wakes in a crowd when it goes on.
"""

from __future__ import annotations

import heapq
import math
from collections.abc import Callable, Iterator
from random import Random
from typing import Any, Protocol

from stonekettle.core.orders import Order
from stonekettle.engine.crowd import ANY, Crowd
from stonekettle.engine.leases import Lease, Stock, share_of
from stonekettle.engine.lives import Dealer, Farewell, Life, Values, walk
from stonekettle.engine.orderbook import NOTHING
from stonekettle.engine.script import Request, Script
from stonekettle.engine.tally import Tally
from stonekettle.engine.user import User

AHEAD_S = 0.03
"""Arrivals are known so long before they are due, for the loop to wake for each."""


class Stage(Protocol):
    """Where users act."""

    def enter(self, user: User) -> None:
        """Give a user connections, cookies and the like of its own."""

    def exit(self, user: User) -> None:
        """Close what belongs to it; nothing of it may reach the next one."""

    def send(self, user: User, request: Request, values: Values, due: float) -> None:
        """Send its request, which was due at ``due``; :meth:`Population.go_on` is called once it is over."""


class Population:
    """Users come and go by :meth:`follow`; between their steps they wait in ``heap`` by when they are due.
    ``room`` says whether one more may come, where so many are."""

    def __init__(
        self,
        script: Script,
        tally: Tally,
        stage: Stage,
        random: Random,
        room: Callable[[int], bool] = lambda present: True,
    ) -> None:
        self.dealer = Dealer(script, random)
        self.thinks = [request.think.sampler(random) for journey in script.journeys for request in journey]
        self.heap: list[tuple[float, int, User]] = []
        self.numbers = Stock()
        self.groups = [Crowd(number, terms, random) for number, terms in enumerate(script.groups)]
        self._tally, self._stage, self._room = tally, stage, room
        self._free_numbers: list[int] = []
        self._visits: dict[int, int] = {}
        self._order, self._lease = NOTHING, Lease(-1, 0.0, {}, ())
        self._entries = self._arrived = 0
        self._stopped_s = 0.0
        self._paused_at: float | None = None
        self._ends = math.inf
        self._dismissed = False

    @property
    def present(self) -> int:
        return sum(map(len, self.groups))

    def told(self) -> dict[str, Any]:
        """What the lead has to know, all told since the beginning: rows taken, people who arrived and who have done all
        they came for; and how many are here, and about to leave, now."""
        rows = {name: stock.taken for name, stock in self.dealer.stocks.items()}
        leaving = sum(group.leaving for group in self.groups if group.clock is None)
        done = [group.done for group in self.groups]
        here = sum(group.here for group in self.groups)
        return {"rows": rows, "arrived": self._arrived, "here": here, "leaving": leaving, "done": done}

    @property
    def finished(self) -> bool:
        """Whether nobody comes any more and everybody has gone."""
        return self._order.last and not any(group.here for group in self.groups)

    # Orders

    def follow(self, now: float, elapsed: float, order: Order, lease: Lease, until: float) -> None:
        """Do what is ordered for this moment; ``elapsed`` is the run's time at ``now`` (s). The order is known to hold
        ``until`` then."""
        if lease is not self._lease:
            self._hold(lease)
        if order is not self._order:
            self._change(now, elapsed, order)
        for group in self.groups:
            if group.clock is not None:
                self._foresee(group, now, elapsed, min(elapsed + AHEAD_S, until))
            elif group.share[1]:
                self._take_turns(group, now, order)
                self._to(group, now, share_of(order.amount(group.terms.name, elapsed), group.share) - group.done)
            if (order.last or not group.share[1]) and len(group):
                self._to(group, now, 0)

    def dismiss(self, now: float) -> None:
        """Let everybody go who is not in a step, and the others after it, whatever they have yet to do."""
        self._dismissed = True
        for _, _, user in list(self.heap):
            if user.leaving and not user.gone:
                self._retire(user, now)

    def due(self, now: float) -> float:
        """When the next one is due; far away while nobody is."""
        if self._paused_at is not None or not self.heap:
            return now + 3600.0
        return self.heap[0][0] + self._stopped_s

    def serve(self, now: float) -> None:
        """Let everybody go on who is due by ``now``."""
        if self._paused_at is not None:
            return
        heap, now = self.heap, now - self._stopped_s
        while heap and heap[0][0] <= now:
            due, _, user = heapq.heappop(heap)
            if not user.gone:
                self._proceed(user, due, user.succeeded)

    def go_on(self, user: User, now: float, succeeded: bool) -> None:
        """The user's step is over."""
        user.in_step = False
        if user.leaving and self._leaves_now(user):
            if succeeded and user.life is not None and user.life.send(True) is None:
                self._tally.journeys[user.group] += 1  # that was the last step of a journey
            self._retire(user, now)
        elif self._paused_at is not None:
            user.succeeded = succeeded
            self._push(self._own_clock(now), user)
        else:
            self._proceed(user, now - self._stopped_s, succeeded)

    def waiting(self, edge: float) -> Iterator[tuple[float, int | None]]:
        """Those due before ``edge`` and not started yet: when, and their group if they have yet to come. They are
        the top of the heap; while the run is paused nobody is due."""
        heap, places = self.heap, [0]
        while places and self._paused_at is None:
            place = places.pop()
            if place < len(heap) and heap[place][0] + self._stopped_s < edge:
                due, _, user = heap[place]
                if not user.gone:
                    yield due + self._stopped_s, user.group if user.life is None else None
                places += (2 * place + 1, 2 * place + 2)

    # Coming and going

    def _hold(self, lease: Lease) -> None:
        self._lease = lease
        self.dealer.hold(lease)
        self.numbers.give(lease.numbers)
        for group in self.groups:
            group.share = lease.shares.get(group.terms.name, (0, 0))

    def _change(self, now: float, elapsed: float, order: Order) -> None:
        """Another order takes effect."""
        for group in self.groups:
            if group.clock is not None:
                self._foresee(group, now, elapsed, order.at_s)
        self._order = order
        if order.paused and self._paused_at is None:
            self._paused_at = now
        elif not order.paused and self._paused_at is not None:
            self._stopped_s += now - self._paused_at
            self._paused_at = None
        if order.last:
            self._ends = now - elapsed - self._stopped_s + order.at_s
        if order.haste:
            self.dismiss(now)

    def _own_clock(self, now: float) -> float:
        return (now if self._paused_at is None else self._paused_at) - self._stopped_s

    def _to(self, group: Crowd, now: float, wanted: int) -> None:
        """Let people join or leave until so many are there."""
        while len(group) < wanted:
            number = self._free_number(group)
            if number is None:
                break
            slot = group.free_slot() if group.terms.fixed else ANY
            user = User(number, self._life(group, number, slot), group=group.number, slot=slot)
            if group.terms.stay_s:
                self._arrived += 1
            self._come(group, user, now)
            if self._paused_at is not None:
                self._push(self._own_clock(now), user)
            else:
                self._proceed(user, now - self._stopped_s, True)
        while len(group) > max(0, wanted):
            self._let_go(group, group.next_to_leave(), now)

    def _take_turns(self, group: Crowd, now: float, order: Order) -> None:
        """Let go who has stayed their time, for others to come; where the load falls they are those it lets go."""
        target = order.targets.get(group.terms.name)
        if target is None or (target.moving and target.end < target.start):
            return
        while (user := group.stayed(self._own_clock(now))) is not None:
            self._let_go(group, user, now)

    def _let_go(self, group: Crowd, user: User, now: float) -> None:
        group.remove(user)
        user.leaving = True
        group.leaving += 1
        if not user.in_step and self._leaves_now(user):
            self._retire(user, now)

    def _leaves_now(self, user: User) -> bool:
        """Whether somebody who shall leave need not end a journey first."""
        return self._dismissed or user.between or not self.groups[user.group].terms.finishes_journey

    def _free_number(self, group: Crowd) -> int | None:
        """A number for somebody who comes; None where no number, row or room is to be had now."""
        returning = self._free_numbers if group.clock is None else []
        number = returning[0] if returning else self.numbers.peek()
        if number is None or self.dealer.outlook(number) is not None:
            return None
        if not self._room(sum(crowd.here for crowd in self.groups)):
            return None
        if returning:
            heapq.heappop(returning)
        else:
            self.numbers.take()
        return number

    def _life(self, group: Crowd, number: int, slot: int) -> Life:
        """A life of its own; who comes back goes on counting its visits."""
        return walk(self.dealer, self.thinks, number, group.number, slot, self._visits.pop(number, 0))

    def _come(self, group: Crowd, user: User, since: float) -> None:
        group.add(user, self._own_clock(since))
        self._tally.join(group.number, since)
        self._stage.enter(user)

    def _foresee(self, group: Crowd, now: float, elapsed: float, until: float) -> None:
        """Put those who arrive before ``until`` (run's time) among those due."""
        assert group.clock is not None  # asked only of groups that arrive
        order = self._order
        start, group.asked_until = max(group.asked_until, order.at_s), max(group.asked_until, until)
        target = order.targets.get(group.terms.name)
        if until <= start or target is None or order.paused or order.last or not group.share[1]:
            return
        own = now - elapsed - self._stopped_s
        for moment in group.clock.between(start, until, target, order.at_s, group.share):
            self._push(own + moment, User(-1, None, group=group.number))

    def _arrive(self, visitor: User, due: float) -> bool:
        """Somebody's moment has come: whether there is room for them."""
        group = self.groups[visitor.group]
        room = share_of(group.terms.at_most, group.share) if group.share[1] else 0
        expected = due < self._ends and not self._dismissed
        number = self._free_number(group) if group.here < room and expected else None
        if number is None:
            self._tally.turned_away[group.number] += 1
            return False
        visitor.number, visitor.life = number, self._life(group, number, ANY)
        self._tally.arrived[group.number] += 1
        self._arrived += 1
        self._come(group, visitor, due + self._stopped_s)
        return True

    def _retire(self, user: User, now: float, *, comes_back: bool = True) -> None:
        group = self.groups[user.group]
        if user.leaving:
            group.leaving -= 1
        else:
            group.remove(user)
        if comes_back and group.clock is None and not group.terms.stay_s:
            heapq.heappush(self._free_numbers, user.number)
            self._visits[user.number] = user.visit
        user.gone = True
        self._tally.leave(group.number, now)
        if user.life is not None:
            user.life.close()
        self._stage.exit(user)

    # Lives

    def _push(self, due: float, user: User) -> None:
        self._entries += 1
        heapq.heappush(self.heap, (due, self._entries, user))

    def _proceed(self, user: User, due: float, succeeded: bool) -> None:
        """Let the user's life go on at ``due`` (users' own clock): send its request or put it to sleep."""
        user.succeeded = True
        try:
            if user.begun:
                action = user.life.send(succeeded)  # type: ignore[union-attr]
            else:
                if user.life is None and not self._arrive(user, due):
                    return
                user.begun = True
                action = next(user.life)  # type: ignore[arg-type]
            while not isinstance(action, tuple):
                if action is None:
                    user.between = True
                    if succeeded:  # a failed step breaks its journey off
                        self._tally.journeys[self.groups[user.group].number] += 1
                    if user.leaving:
                        self._retire(user, due + self._stopped_s)
                        return
                elif action > 0:
                    self._push(due + action, user)
                    return
                action = user.life.send(True)  # type: ignore[union-attr]
        except StopIteration as end:
            self._ended(user, due + self._stopped_s, end.value)
            return
        user.between = False
        user.in_step = True
        request, values = action
        user.visit = values.visit
        self._stage.send(user, request, values, due + self._stopped_s)

    def _ended(self, user: User, now: float, farewell: Farewell) -> None:
        """Its life is over by itself: it has done all its journeys, or its feeds have no row for it any more."""
        group = self.groups[user.group]
        if farewell is Farewell.DONE and not user.leaving:
            group.done += 1
        self._retire(user, now, comes_back=False)
