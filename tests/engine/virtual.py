"""Whole runs in virtual time: the real lead, real order books and real populations, without sockets or waiting.

A stage answers each request after a while; messages between the lead and its generators take their time, generators
are lost, frozen and join late, as the test says.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable, Sequence
from random import Random

from stonekettle.core.types import IntArray
from stonekettle.engine import signals
from stonekettle.engine.allowance import Allowance, Ceilings, Permit
from stonekettle.engine.gates import Gates
from stonekettle.engine.lead import Lead, Phase
from stonekettle.engine.lives import Values
from stonekettle.engine.orderbook import OrderBook
from stonekettle.engine.population import Population
from stonekettle.engine.script import Request, compile_plan
from stonekettle.engine.signals import Action, Heard, Wish
from stonekettle.engine.tally import Tally
from stonekettle.engine.user import User
from stonekettle.plan.models import Plan

TICK_S = 0.02


class Stage:
    """Answers after ``answer_s``; watches that no number and no row is used by two."""

    def __init__(self, world: World, tally: Tally, cells: IntArray, answer_s: Callable[[], float]) -> None:
        self.world, self._tally, self._cells, self._answer_s = world, tally, cells, answer_s
        self.inside: list[tuple[float, int, User]] = []
        self.now = 0.0
        self._sent = 0

    def enter(self, user: User) -> None:
        assert user.number not in self.world.active, f"two users have the number {user.number}"
        owner = self.world.owners.setdefault(user.number, self)
        assert owner is self, f"the number {user.number} went from one generator to another"
        self.world.active.add(user.number)

    def exit(self, user: User) -> None:
        self.world.active.discard(user.number)

    def send(self, user: User, request: Request, values: Values, due: float) -> None:
        self._sent += 1
        self._tally.start(self.now, due, int(self._cells[user.group, request.step]))
        self.world.log.append((round(due, 6), user.number, request.step))
        if request.first and "row" in values:
            self.world.rows.append(values["row"])
        heapq.heappush(self.inside, (self.now + self._answer_s(), self._sent, user))


class Generator:
    """One generator with everything real but its sockets."""

    def __init__(self, world: World, slot: int, zero: float) -> None:
        self.name, self.world, self.zero = f"g{slot}", world, zero
        script = compile_plan(world.plan)
        random = Random(world.seed * 1_000 + slot)
        self.book = OrderBook()
        self.tally = Tally(len(script.cells), len(script.groups))
        self.stage = Stage(world, self.tally, script.numbers, lambda: random.uniform(0.01, world.slowest_s))
        permit = Permit(1, "the shop", (), ceilings=Ceilings(users=world.share))
        self.gates = Gates(Allowance((permit,)))
        self.population = Population(script, self.tally, self.stage, random, self.gates.room)
        self.frozen = self.gone = self.finished = False
        self.begun, self.first = False, 0
        self.seconds: list[dict[str, object]] = []

    def tick(self, now: float) -> None:
        if self.frozen or self.gone or self.finished or now < self.zero:
            return
        elapsed = now - self.zero
        if not self.begun:
            self.begun, self.first = True, int(elapsed)
            self.tally.begin(self.zero + int(elapsed), int(elapsed))
        self.stage.now = now
        inside = self.stage.inside
        while inside and inside[0][0] <= now:
            _, _, user = heapq.heappop(inside)
            self.tally.end(now)
            self.population.go_on(user, now, True)
        while now >= self.zero + self.tally.second + 1:
            edge = self.zero + self.tally.second + 1
            told = {**self.population.told(), "ceiling": self.gates.reached}
            self.seconds.append({**self.tally.close(edge, self.population.waiting(edge)), "told": told})
            self.world.send_up(now, signals.Told(self.name, self.seconds[-1]))
        order, lease = self.book.order_at(elapsed), self.book.lease_at(elapsed)
        if lease is not None:
            self.population.follow(now, elapsed, order, lease, self.book.changes_at)
        self.population.serve(now)
        if order.last and not inside and (lease is None or self.population.finished):
            self.finished = True
            self.world.send_up(now, signals.Finished(self.name))


class World:
    """A lead and its generators, and the time between them. ``share`` is how many users each of them may have."""

    def __init__(
        self,
        plan: Plan,
        *,
        generators: int = 2,
        seed: int = 1,
        delay_s: float = 0.2,
        slowest_s: float = 0.3,
        wishes: Iterable[tuple[float, Wish]] = (),
        losses: Iterable[tuple[float, int]] = (),
        joins: Iterable[float] = (),
        when_lost: str = "take over",
        noticed_after_s: float = 4.5,
        share: int | None = None,
    ) -> None:
        self.plan, self.seed, self.slowest_s, self.share = plan, seed, slowest_s, share
        self.active: set[int] = set()
        self.owners: dict[int, Stage] = {}
        self.rows: list[str] = []
        self.log: list[tuple[float, int, int]] = []
        self.actions: list[tuple[float, Action]] = []
        self.random = Random(seed)
        self._delay_s, self._noticed_after_s = delay_s, noticed_after_s
        self._up: list[tuple[float, int, Heard]] = []
        self._down: list[tuple[float, int, Generator, Action]] = []
        self._count = 0
        self.waiting = sorted(wishes, key=lambda pair: pair[0])
        self._losses, self._joins = sorted(losses), sorted(joins)
        script = compile_plan(plan)
        self.lead = Lead(
            plan.planned,
            script.groups,
            wanted={"": generators},
            feeds={feed.name: len(feed) for feed in plan.feeds if feed.is_used_up},
            room=5_000,
            when_lost=when_lost,
        )
        self.generators = [Generator(self, slot, float("inf")) for slot in range(generators)]
        for generator in self.generators:
            self.send_up(0.0, signals.Ready(generator.name))
        self.may_lose_all = False
        self.replaces = True
        """Whether another comes for one that was lost."""
        self.zero: float | None = None
        self.end: signals.End | None = None
        self.present: list[tuple[float, int]] = []
        """Users there at each tick, over the generators that are not lost."""

    def send_up(self, now: float, heard: Heard) -> None:
        self._count += 1
        heapq.heappush(self._up, (now + self.random.uniform(0, self._delay_s), self._count, heard))

    def play(self, limit_s: float = 600.0) -> World:
        tick = 0
        while self.end is None and tick * TICK_S < limit_s:
            self.tick(tick * TICK_S)
            tick += 1
        assert self.end is not None, "the run did not end"
        return self

    def living(self) -> list[Generator]:
        return [g for g in self.generators if not g.frozen and not g.gone]

    def ordered(self, t: float) -> int:
        return round(sum(self.lead.course.orders.amount(group.name, t) for group in self.plan.people))

    def tick(self, now: float) -> None:
        run_time = now - self.zero if self.zero is not None else -1.0
        while self._losses and run_time >= self._losses[0][0]:
            _, slot = self._losses.pop(0)
            generator = self.generators[slot % len(self.generators)]
            if generator in self.living() and (self.may_lose_all or len(self.living()) > 1):
                generator.gone = True
                self._count += 1
                lost = signals.Lost(generator.name, "killed")
                heapq.heappush(self._up, (now + self._noticed_after_s, self._count, lost))
        while self._joins and run_time >= self._joins[0]:
            self._joins.pop(0)
            self._join(now)
        heard: list[Heard] = []
        while self._up and self._up[0][0] <= now:
            heard.append(heapq.heappop(self._up)[2])
        while self.waiting and run_time >= self.waiting[0][0]:
            heard.append(self.waiting.pop(0)[1])
        for action in self.lead.step(now, heard):
            self._do(now, action)
        while self._down and self._down[0][0] <= now:
            _, _, generator, action = heapq.heappop(self._down)
            if isinstance(action, signals.Give):
                generator.book.hear(action.order)
            elif isinstance(action, signals.Lend):
                generator.book.hear_lease(action.lease)
        for generator in self.generators:
            generator.tick(now)
        if self.lead.phase is Phase.RUNNING and run_time >= 0:
            self.present.append((run_time, sum(g.population.present for g in self.living())))

    def _do(self, now: float, action: Action) -> None:
        self.actions.append((now, action))
        if isinstance(action, signals.End):
            self.end = action
        elif isinstance(action, signals.Begin):
            self.zero = now + action.in_s
            for generator in self.generators:
                generator.zero = self.zero
        elif isinstance(action, signals.Give):
            for generator in self.generators:
                self._send_down(now, generator, action)
        elif isinstance(action, signals.Lend):
            self._send_down(now, next(g for g in self.generators if g.name == action.generator), action)
        elif isinstance(action, signals.Replace) and self.replaces:
            self._join(now + 1.0)

    def _send_down(self, now: float, generator: Generator, action: Action) -> None:
        self._count += 1
        # Told twice at times: that must change nothing.
        for _ in range(1 + self.random.randrange(2)):
            heapq.heappush(self._down, (now + self.random.uniform(0, self._delay_s), self._count, generator, action))
            self._count += 1

    def _join(self, now: float) -> None:
        generator = Generator(self, len(self.generators), self.zero if self.zero is not None else float("inf"))
        self.generators.append(generator)
        given = [action for _, action in self.actions if isinstance(action, signals.Give)]
        for action in given[-1:]:
            self._send_down(now, generator, action)
        self.send_up(now, signals.Ready(generator.name))


def steady(world: World, moments: Sequence[float]) -> list[tuple[float, int]]:
    """The ticks at which nothing has been changing for a while: no order, lease or loss near them."""
    changes = [action.order.at_s for _, action in world.actions if isinstance(action, signals.Give)]
    changes += [action.lease.at_s for _, action in world.actions if isinstance(action, signals.Lend)]
    changes += list(moments)
    return [(t, n) for t, n in world.present if all(not -0.1 < t - change < 0.1 for change in changes)]
