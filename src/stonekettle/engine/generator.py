"""The loop that makes load: one process, one core, no threads on the hot path.

It decides nothing: how many users there are stands in orders, what they do in their lives. Each user has
connections, cookies and TLS sessions of its own, as users in life do.
"""

from __future__ import annotations

import gc
import sys
import time
from collections.abc import Callable
from random import Random
from typing import Any

from stonekettle.core.orders import Ordered
from stonekettle.engine.allowance import LOOPBACK, Allowance
from stonekettle.engine.driver import Driver, driver_for
from stonekettle.engine.gates import Gates
from stonekettle.engine.kept import Whole
from stonekettle.engine.leases import Lease
from stonekettle.engine.looking import Looking
from stonekettle.engine.orderbook import OrderBook
from stonekettle.engine.population import Population
from stonekettle.engine.reasons import Reasons
from stonekettle.engine.rollup import Second
from stonekettle.engine.script import Script, compile_plan, most_users
from stonekettle.engine.tally import Tally
from stonekettle.engine.transfers import Transfers
from stonekettle.engine.user import User
from stonekettle.plan.models import Plan

TICK_S = 0.01
"""The loop's metronome: how often orders are looked at, whatever else happens."""
DRAIN_LIMIT_S = 30.0
"""Users get this long to finish what they are in once nobody comes any more."""
SWITCH_INTERVAL_S = 0.0005


def nothing_new() -> None:
    """Everything stands in the book already."""


class LoadLoop:
    """Walks virtual users through a script as the orders in ``book`` say.

    ``emit`` receives each finished second with its packed records, ``keep`` what was kept whole in it; they must not
    block. ``most_users`` is how
    many there may be at a time. The same ``seed`` and ``slot`` draw the same numbers.
    """

    def __init__(
        self,
        script: Script,
        book: OrderBook,
        emit: Callable[[Second, bytes], None],
        *,
        most_users: int,
        slot: int = 0,
        seed: int = 1,
        drain_limit_s: float = DRAIN_LIMIT_S,
        keep: Callable[[list[Whole]], None] = lambda kept: None,
        allowance: Allowance = LOOPBACK,
    ) -> None:
        self.script, self.book, self.emit, self.drain_limit_s = script, book, emit, drain_limit_s
        self.keep = keep
        self.driver: Driver = driver_for(most_users)
        self.looking = Looking(self.driver)
        self.tally = Tally(len(script.cells), len(script.groups))
        self.gates = Gates(allowance)
        self.transfers = Transfers(script, self.driver, self.looking, self.tally, self._go_on, seed, slot, self.gates)
        self.population = Population(script, self.tally, self.transfers, Random(seed * 1_000 + slot), self.gates.room)
        self._reasons = Reasons()
        self._start = 0.0
        self._last_since: float | None = None

    @classmethod
    def alone(
        cls,
        plan: Plan,
        emit: Callable[[Second, bytes], None],
        ordered: Ordered | None = None,
        lease: Lease | None = None,
        **more: Any,
    ) -> LoadLoop:
        """A loop that shares its load with nobody and is told nothing: it follows what is planned, or ``ordered``."""
        used_up = {feed.name: len(feed) for feed in plan.feeds if feed.is_used_up}
        whole = Lease.alone([group.name for group in plan.people], used_up)
        book = OrderBook.of(ordered or plan.planned, lease or whole)
        return cls(compile_plan(plan), book, emit, most_users=most_users(plan), **more)

    def run(self, start_at: float, hear: Callable[[], None] = nothing_new) -> None:
        """Make load from ``start_at`` (perf_counter seconds) until everybody has gone after the last order. Where
        that moment has passed, it begins in the midst of the run.

        ``hear`` is called every tick, to put into the book what has been told meanwhile.
        """
        self._start = self.transfers.start = start_at
        while (now := time.perf_counter()) < start_at:
            hear()
            time.sleep(min(TICK_S, start_at - now))
        self._reasons.read()
        first = max(0, int(time.perf_counter() - start_at))
        self.tally.begin(start_at + first, first)
        looking, population, transfers = self.looking, self.population, self.transfers
        looking.begin(start_at)
        next_tick = start_at
        while True:
            now = looking.alive()
            if now >= next_tick:
                hear()
                if now >= self.tally.begun + 1:
                    self._close_seconds(now)
                if not self._tick(now):
                    break
                next_tick = now + TICK_S
            population.serve(now)
            if transfers.held:
                transfers.release()
            looking.look()
            transfers.arrive()
            if not transfers.collect():
                until = min(population.due(now), transfers.due, next_tick) - time.perf_counter()
                if until > 0 and transfers.watched:
                    looking.wait(until)
                    transfers.collect()
                elif until > 0:
                    # With nothing to watch, libcurl's wait returns at once and the loop would spin.
                    time.sleep(until)
        self._close_seconds(time.perf_counter(), last=True)
        self.transfers.close()
        self.driver.close()

    def _go_on(self, user: User, now: float, succeeded: bool) -> None:
        self.population.go_on(user, now, succeeded)

    def _tick(self, now: float) -> bool:
        """Follow the orders; False when the run is over and nobody is in flight."""
        until = self.gates.until
        if until is not None and time.time() >= until and not self.book.closed:
            self.book.close(now - self._start)  # whatever its owner says
        elapsed = now - self._start
        order, lease = self.book.order_at(elapsed), self.book.lease_at(elapsed)
        self.transfers.choice.follow(order.number)
        if lease is not None:
            self.population.follow(now, elapsed, order, lease, self.book.changes_at)
            self.population.serve(now)  # who was due before a stall over the end comes, and the run waits for them
        if not order.last:
            return True
        self._last_since = self._last_since or now
        if order.cut or now - self._last_since > self.drain_limit_s:
            self.population.dismiss(now)
            self.transfers.cut_off(now)
        return bool(self.transfers) or not (lease is None or self.population.finished)

    def _close_seconds(self, now: float, *, last: bool = False) -> None:
        """Emit the current second. A stall longer than a second gives its seconds one by one, the
        later ones empty, so that time never slips."""
        while now >= self._start + self.tally.second + 1:
            self._emit_second(self._start + self.tally.second + 1)
        if last and now > self._start + self.tally.second:
            self._emit_second(now)

    def _emit_second(self, edge: float) -> None:
        second = Second(
            **self.tally.close(edge, self.population.waiting(edge)),
            stalls=[(a - self._start, b - self._start) for a, b in self.looking.take_stalls()],
            timings=self.transfers.timings.close_second(),
            told={**self.population.told(), "ceiling": self.gates.reached},
            **self._reasons.read(),
        )
        self.emit(second, self.transfers.buffer.take())
        if kept := self.transfers.take_whole():
            self.keep(kept)


def settle_interpreter() -> None:
    """Prepare this process for a loop that must not pause: call once, when everything is built.

    What exists lives as long as the process, so scanning it for garbage would only pause the loop;
    a thread that folds a finished second may hold the interpreter for half a millisecond at most.
    """
    gc.collect()
    gc.freeze()
    gc.disable()
    sys.setswitchinterval(SWITCH_INTERVAL_S)
