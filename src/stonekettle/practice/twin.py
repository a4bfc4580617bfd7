"""The practice system in virtual time: the same configuration without sockets or waiting.

A discrete-event simulation of users that walk journeys over the components' servers. It follows orders as generators
do, step by step, and yields the same arrays as a real run, thousands of times faster, for tests of the analysis and
for demo history. Its generator can be as unfit as real ones are.
"""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from random import Random

import numpy as np

from stonekettle.core.arrivals import ArrivalClock
from stonekettle.core.distribution import Deck, Law
from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.load_profile import LoadProfile, Target
from stonekettle.core.orders import Order, Ordered, as_planned
from stonekettle.core.run_data import Arrivals, Cell, Reasons, ResourceSeries, RunData
from stonekettle.core.stalls import Requests
from stonekettle.core.types import FloatArray
from stonekettle.plan.models import Plan
from stonekettle.practice import columns
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.simulated import FAILED, REFUSED, SimulatedSystem
from stonekettle.practice.unfit import Attentive, Loop

TICK_S = 0.1
"""So often users are counted against what is ordered."""
TOO_LATE = 3
ERRORS = {REFUSED: "status 503", FAILED: "status 500", TOO_LATE: "time limit"}


@dataclass(frozen=True)
class TwinStep:
    """A request to ``route`` (by name), then think time. Who has no answer after ``limit_s`` goes on without it."""

    route: str
    think: Law
    limit_s: float | None = None


@dataclass(frozen=True)
class TwinJourney:
    """Steps in order; ``weight`` is its share among journeys begun."""

    name: str
    weight: float
    steps: tuple[TwinStep, ...]


@dataclass(frozen=True)
class TwinGroup:
    """People alike. ``weights`` choose among the journeys, None: by the journeys' own; the first of them do the journey
    in ``fixed`` and no other. Each leaves for good after ``each`` journeys (None: never), and who has been there for
    ``stay_s`` makes room for another one (0: nobody). ``evenly``: who arrives by rate does so in whole steps.
    An answer takes ``round_trip_s`` more on its way."""

    weights: tuple[float, ...] | None = None
    fixed: tuple[int, ...] = ()
    each: int | None = None
    evenly: bool = False
    at_most: int | None = None
    stay_s: float = 0.0
    round_trip_s: float = 0.0


@dataclass(slots=True)
class _Request:
    """A step that a user waits for since ``start``."""

    user: int
    step: int
    start: float
    answered: bool = False


@dataclass(slots=True)
class _Group:
    """A group's users in the order in which they came, with when; ``clock`` where it arrives. ``done`` have left for
    good by themselves."""

    number: int
    terms: TwinGroup
    deck: Deck | None
    clock: ArrivalClock | None
    present: dict[int, float] = field(default_factory=dict)
    seats: dict[int, int] = field(default_factory=dict)
    done: int = 0


class Twin:
    """One simulation: let it :meth:`advance` under one set of targets after the other, or :meth:`run` a whole record
    of orders; then :meth:`collected`. Groups named in ``arrivals`` come by rate; ``groups`` tell who the people of some
    are, others do one journey each, or go on for ever."""

    def __init__(
        self,
        config: PracticeConfig,
        journeys: Sequence[TwinJourney],
        *,
        seed: int = 1,
        cpu_noise: float = 0.01,
        loop: Loop | None = None,
        arrivals: Sequence[str] = (),
        groups: Mapping[str, TwinGroup] | None = None,
    ) -> None:
        self.terms = dict(groups or {})
        self.config, self.journeys = config, tuple(journeys)
        self.random = Random(seed)
        self.arrivals = frozenset(arrivals)
        self.groups: dict[str, _Group] = {}
        self.now = 0.0
        self.orders: list[Order] = []
        self.noise = np.random.default_rng(seed)
        self.cpu_noise, self.loop = cpu_noise, loop or Attentive()
        self.heap: list[tuple[float, int, Callable[..., None], object]] = []
        self.order = 0
        self.system = SimulatedSystem(config, self.random, self._at)
        self.steps = [(j.name, s) for j in self.journeys for s in j.steps]
        self.first_step = np.cumsum([0, *(len(j.steps) for j in self.journeys)]).tolist()
        self.visits = [self.system.compiled(s.route) for _, s in self.steps]
        self.limits = [s.limit_s for _, s in self.steps]
        self.think = [s.think.sampler(self.random) for _, s in self.steps]
        self.place: dict[int, tuple[str, int, int]] = {}
        self.leaving: set[int] = set()
        self.came = 0
        self.paused_at: float | None = None
        self.parked: list[tuple[float, int]] = []
        self.joined: list[tuple[float, int, int]] = []
        """When (s), how many more or fewer, of which group."""
        self.arrived: list[tuple[float, int]] = []
        self.turned_away: list[tuple[float, int]] = []
        self.journeys_done: list[tuple[float, int]] = []
        self.done: list[tuple[float, float, float, int, int, int, int, int]] = []
        """Of each request its start, end and blind time (s), step, its error or 0, its user, that one's visit and
        group."""
        self.begun_by: Counter[int] = Counter()
        self.begun: list[float] = []
        self.delays: list[tuple[float, float]] = []

    def run(self, ordered: Ordered) -> RunData:
        """Follow a whole record of orders and return what a run would have measured."""
        for order, after in zip(ordered.orders, ordered.orders[1:], strict=False):
            self.advance(after.at_s, order.targets, paused=order.paused)
        return self.collected()

    def advance(self, until: float, targets: Mapping[str, Target], *, paused: bool = False) -> None:
        """Go on to ``until`` (s) under these targets, told from the present moment on."""
        begun = self.now
        if until <= begun:
            return
        self._note(targets, paused)
        self._pause(begun, paused)
        tick = begun
        while tick < until - 1e-9:
            after = min(until, tick + TICK_S)
            for name, target in targets.items():
                self._follow(name, target, begun, tick, after)
            while self.heap and self.heap[0][0] < after:
                now, _, act, subject = heapq.heappop(self.heap)
                act(now, subject)
            tick = after
        self.now = until

    def follow(self, ordered: Ordered, until: float) -> None:
        """Go on to ``until`` (s), or to the record's end, by a record that may still grow: order after order."""
        until = min(until, ordered.duration_s)
        while self.now < until - 1e-9:
            order = ordered.in_effect(self.now + 1e-9)
            after = min([until, *(o.at_s for o in ordered.orders if o.at_s > self.now + 1e-9)])
            told = (
                {name: target.later(self.now - order.at_s) for name, target in order.targets.items()} if order else {}
            )
            self.advance(after, told, paused=order.paused if order else False)

    @property
    def ordered(self) -> Ordered:
        """What it was told so far, as a record."""
        nobody = {name: Target.steady(0) for name in self.groups}
        return Ordered((*self.orders, Order(len(self.orders) + 1, self.now, nobody, last=True)), self.arrivals)

    @property
    def seconds(self) -> int:
        return int(np.ceil(self.now))

    def _at(self, time: float, act: Callable[..., None], subject: object) -> None:
        self.order += 1
        heapq.heappush(self.heap, (time, self.order, act, subject))

    def _note(self, targets: Mapping[str, Target], paused: bool) -> None:
        self.orders.append(Order(len(self.orders) + 1, self.now, dict(targets), paused=paused))
        for name in targets:
            if name not in self.groups:
                terms = self.terms.get(name, TwinGroup(each=1 if name in self.arrivals else None))
                weights = terms.weights or [journey.weight for journey in self.journeys]
                deck = Deck(weights, self.random) if any(weights) else None
                clock = ArrivalClock(self.random, evenly=terms.evenly) if name in self.arrivals else None
                self.groups[name] = _Group(len(self.groups), terms, deck, clock)

    def _pause(self, now: float, paused: bool) -> None:
        """Paused users finish their step and wait; each goes on as long after the pause as it would have."""
        if paused and self.paused_at is None:
            self.paused_at = now
        elif not paused and self.paused_at is not None:
            for due, user in self.parked:
                self._at(now + due - self.paused_at, self._start, user)
            self.parked, self.paused_at = [], None

    def _follow(self, name: str, target: Target, begun: float, tick: float, after: float) -> None:
        group = self.groups[name]
        if group.clock is not None:
            if self.paused_at is None:
                for moment in group.clock.between(tick, after, target, begun):
                    self._at(moment, self._arrive_by_itself, name)
            return
        wanted = round(target.after(tick - begun)) - group.done
        if group.terms.stay_s and not (target.moving and target.end < target.start):
            for user in [u for u, came in group.present.items() if tick - came >= group.terms.stay_s]:
                self._leave(tick, group, user)
        for _ in range(wanted - len(group.present)):
            user = self._come(tick, name)
            self._at(tick + self.think[self._step(user)](), self._start, user)
        while len(group.present) > max(0, wanted):
            first = bool(group.terms.stay_s)
            self._leave(tick, group, next(iter(group.present) if first else reversed(group.present)))

    def _leave(self, now: float, group: _Group, user: int) -> None:
        self.leaving.add(user)
        self._remove(now, group, user)

    def _remove(self, now: float, group: _Group, user: int) -> None:
        del group.present[user]
        group.seats.pop(user, None)
        self.joined.append((now, -1, group.number))

    def _come(self, now: float, name: str) -> int:
        user, self.came = self.came, self.came + 1
        group = self.groups[name]
        if group.terms.fixed:
            taken = set(group.seats.values())
            group.seats[user] = next((s for s in range(len(group.terms.fixed)) if s not in taken), len(taken))
        group.present[user] = now
        self.joined.append((now, 1, group.number))
        self._begin_journey(user, name)
        return user

    def _arrive_by_itself(self, now: float, name: str) -> None:
        group = self.groups[name]
        if group.terms.at_most is not None and len(group.present) >= group.terms.at_most:
            self.turned_away.append((now, group.number))
            return
        self.arrived.append((now, group.number))
        self._start(now, self._come(now, name))

    def _depart(self, now: float, user: int) -> None:
        """Somebody has done all they came for."""
        group = self.groups[self.place[user][0]]
        if user not in self.leaving:
            self._remove(now, group, user)
            if group.clock is None:
                group.done += 1

    def _begin_journey(self, user: int, name: str) -> None:
        self.begun_by[user] += 1
        group = self.groups[name]
        seat = group.seats.get(user, len(group.terms.fixed))
        if seat < len(group.terms.fixed):
            journey = group.terms.fixed[seat]
        elif group.deck is not None:
            journey = group.deck.draw()
        else:
            journey = group.terms.fixed[seat % len(group.terms.fixed)]
        self.place[user] = (name, journey, 0)

    def _step(self, user: int) -> int:
        _, journey, position = self.place[user]
        return int(self.first_step[journey]) + position

    def _start(self, now: float, user: int) -> None:
        if user in self.leaving:
            return
        if self.paused_at is not None:
            self.parked.append((now, user))
            return
        when, _ = self.loop.handled(now)
        if when > now:
            self.delays.append((now, when))
            self._at(when, self._send, user)
        else:
            self._send(now, user)

    def _send(self, now: float, user: int) -> None:
        self.begun.append(now)
        step = self._step(user)
        request = _Request(user, step, now)
        limit_s = self.limits[step]
        if limit_s is not None:
            self._at(now + limit_s, self._give_up, request)
        self.system.take(now, self.visits[step], partial(self._answered, request))

    def _answered(self, request: _Request, now: float, error: int) -> None:
        trip_s = self.groups[self.place[request.user][0]].terms.round_trip_s if not request.answered else 0.0
        if trip_s:
            self._at(now + trip_s, self._arrived, (request, error))
        else:
            self._arrived(now, (request, error))

    def _arrived(self, now: float, answer: tuple[_Request, int]) -> None:
        request, error = answer
        if not request.answered:
            self._finish(now, request, error)

    def _give_up(self, now: float, request: _Request) -> None:
        """The user goes on without an answer; the system does not know, and works on."""
        self._arrived(now, (request, TOO_LATE))

    def _finish(self, now: float, request: _Request, error: int) -> None:
        """The answer is there; the user goes on when the generator has seen it."""
        request.answered = True
        when, since = self.loop.handled(now)
        blind = min(when - since, when - request.start)
        user, group = request.user, self.groups[self.place[request.user][0]].number
        self.done.append((request.start, when, blind, request.step, error, user, self.begun_by[user], group))
        act = self._fail if error else self._succeed
        if when > now:
            self._at(when, act, request)
        else:
            act(now, request)

    def _succeed(self, now: float, request: _Request) -> None:
        self._go_on(now, request, failed=False)

    def _fail(self, now: float, request: _Request) -> None:
        self._go_on(now, request, failed=True)

    def _go_on(self, now: float, request: _Request, *, failed: bool) -> None:
        user = request.user
        name, journey, position = self.place[user]
        if failed or position + 1 == len(self.journeys[journey].steps):
            if not failed:
                self.journeys_done.append((now, self.groups[name].number))
            each = self.groups[name].terms.each
            if each is not None and self.begun_by[user] >= each:
                self._at(now + self.think[request.step](), self._depart, user)
                return
            self._begin_journey(user, name)
        else:
            self.place[user] = (name, journey, position + 1)
        self._at(now + self.think[request.step](), self._start, user)

    def requests(self) -> Requests:
        """Every request that succeeded, once the twin has run."""
        done = np.array(self.done, dtype=np.float64).reshape(-1, 8)
        start, end, blind, step = done[done[:, 4] == 0, :4].T
        return Requests(
            start,
            np.minimum(end.astype(np.int64), self.seconds - 1),
            step.astype(np.int64),
            ((end - start) * 1e6).astype(np.int64),
            (blind * 1e6).astype(np.int64),
        )

    def collected(self) -> RunData:
        """The arrays of a run, once the twin has run."""
        n = self.seconds
        done = np.array(self.done, dtype=np.float64).reshape(-1, 8)
        start, end, blind, step, error = *done[:, :3].T, done[:, 3].astype(np.int64), done[:, 4].astype(np.int64)
        failed = error > 0
        good = ~failed
        shape = (n, len(self.steps))
        kept = self.requests()
        users = self.present(range(len(self.groups)))
        return RunData(
            cells=tuple(
                Cell(journey, s.route, s.think.mean_s, s.think.coefficient_of_variation) for journey, s in self.steps
            ),
            planned_users=users if self.arrivals else self.ordered.mean_users(n),
            arrivals=self._arrivals() if self.arrivals else None,
            users=users,
            in_flight=self.in_flight(),
            overdue=columns.mean_level(
                np.array([t for pair in self.delays for t in pair]),
                np.tile([1.0, -1.0], len(self.delays)),
                n,
            ),
            blind=columns.sums(end, np.zeros(end.size, dtype=np.int64), blind, (n, 1))[:, 0],
            start_gap_s=self.start_gaps_s(),
            reasons=Reasons.none(n, cpu=0.05),
            stalls=np.array(self.loop.stalls, dtype=np.float64).reshape(-1, 2),
            started=columns.counts(start, step, shape),
            requests=columns.counts(end, step, shape),
            completed=columns.counts(end, step, shape),
            errors=columns.counts(end[failed], step[failed], shape),
            response_sum_s=columns.sums(end[good], step[good], (end - start)[good], shape),
            blind_sum_s=columns.sums(end[good], step[good], blind[good], shape),
            histograms=HistogramSeries.from_observations(kept.second, kept.cell, kept.response_us),
            low_histograms=HistogramSeries.from_observations(kept.second, kept.cell, kept.response_us - kept.blind_us),
            resources=self.metered(),
            error_kinds={
                kind: columns.per_second(end[error == number], n).astype(np.int64)
                for number, kind in ERRORS.items()
                if (error == number).any()
            },
        )

    def metered(self) -> tuple[ResourceSeries, ...]:
        """What meters would have read so far."""
        return self.system.resources(self.now, self.noise, self.cpu_noise)

    def in_flight(self) -> FloatArray:
        """Mean requests on their way in each second, shape (seconds,)."""
        begun, ended = np.array(self.begun), np.array([one[1] for one in self.done])
        changes = np.concatenate([np.ones(begun.size), -np.ones(ended.size)])
        return columns.mean_level(np.concatenate([begun, ended]), changes, self.seconds)

    def start_gaps_s(self) -> FloatArray:
        """The longest time between two starts in each second, shape (seconds,)."""
        return columns.longest_gaps(np.sort(np.array(self.begun)), self.seconds)

    def present(self, groups: Collection[int]) -> FloatArray:
        """Mean users of these groups in each second, shape (seconds,)."""
        changes = np.array([(t, by) for t, by, group in self.joined if group in groups]).reshape(-1, 2)
        return columns.mean_level(changes[:, 0], changes[:, 1], self.seconds)

    def _arrivals(self) -> Arrivals:
        started = columns.per_second(np.array([t for t, _ in self.arrived]), self.seconds).astype(np.float64)
        alone = self.ordered.load_kind == "arrivals"
        return Arrivals(self.ordered.mean_arrivals(self.seconds), started, np.zeros(self.seconds), alone)


def journeys_of(plan: Plan) -> list[TwinJourney]:
    """A plan's journeys as the twin walks them."""
    return [
        TwinJourney(
            journey.name,
            journey.weight,
            tuple(TwinStep(step.request.partition("?")[0], plan.think_of(step).as_law()) for step in journey.active),
        )
        for journey in plan.journeys
    ]


def simulate(
    config: PracticeConfig,
    journeys: Sequence[TwinJourney],
    load: LoadProfile | Ordered,
    *,
    seed: int = 1,
    cpu_noise: float = 0.01,
    loop: Loop | None = None,
) -> RunData:
    """Play ``load`` against ``config`` in virtual time. ``cpu_noise`` is the standard deviation
    of utilisation readings; ``loop`` a generator that is not always there."""
    ordered = as_planned(load) if isinstance(load, LoadProfile) else load
    twin = Twin(config, journeys, seed=seed, cpu_noise=cpu_noise, loop=loop, arrivals=tuple(ordered.arrivals))
    return twin.run(ordered)
