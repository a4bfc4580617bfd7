"""The practice system in virtual time: the same configuration without sockets or waiting.

A discrete-event simulation of closed users that walk journeys over the components' servers,
first come first served. It yields the same arrays as a real run, thousands of times faster, for
tests of the analysis and for demo history. Its generator can be as unfit as real ones are.
"""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from random import Random

import numpy as np

from stonekettle.core.distribution import Deck, Law
from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.load_profile import LoadProfile
from stonekettle.core.run_data import Reasons, ResourceSeries, RunData, StepInfo
from stonekettle.core.stalls import Requests
from stonekettle.core.types import FloatArray, IntArray
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.unfit import Attentive, Loop

REFUSAL_S = 0.002


@dataclass(frozen=True)
class TwinStep:
    """A request to ``route`` (by name), then think time."""

    route: str
    think: Law


@dataclass(frozen=True)
class TwinJourney:
    """Steps in order; ``weight`` is its share among journeys begun."""

    name: str
    weight: float
    steps: tuple[TwinStep, ...]


@dataclass(slots=True)
class _Pool:
    limit: int
    in_use: int = 0
    waiting: deque[tuple[float, _Request]] = field(default_factory=deque)
    changes: list[tuple[float, int, int]] = field(default_factory=list)


@dataclass(slots=True)
class _Server:
    """Servers of one resource: when each is next free, and the work done in each second."""

    free_at: list[float]
    busy: FloatArray


@dataclass(slots=True)
class _Request:
    user: int
    step: int
    start: float
    visits: tuple[tuple[str, _Pool | None, tuple[tuple[_Server, Callable[[], float]], ...]], ...]
    at: int = 0
    stage: int = 0


class Twin:
    """One simulation. Build it, then :meth:`run` once."""

    def __init__(
        self,
        config: PracticeConfig,
        journeys: Sequence[TwinJourney],
        profile: LoadProfile,
        *,
        seed: int = 1,
        cpu_noise: float = 0.01,
        loop: Loop | None = None,
    ) -> None:
        self.config, self.journeys, self.profile = config, tuple(journeys), profile
        self.random = Random(seed)
        self.deck = Deck([journey.weight for journey in journeys], self.random)
        self.noise = np.random.default_rng(seed)
        self.cpu_noise, self.loop = cpu_noise, loop or Attentive()
        self.seconds = int(np.ceil(profile.duration_s))
        self.servers = {
            f"{c.name}.{resource}": _Server([0.0] * (count * c.instances), np.zeros(self.seconds + 1))
            for c in config.components
            for resource, count in (("cpu", c.cpus), ("disk", c.disks))
            if count
        }
        self.pools = {c.name: _Pool(c.pool) for c in config.components if c.pool is not None}
        self.inside = {c.name: 0 for c in config.components}
        self.refuse_over = {c.name: c.refuse_over for c in config.components}
        self.steps = [(j.name, s) for j in self.journeys for s in j.steps]
        self.first_step = np.cumsum([0, *(len(j.steps) for j in self.journeys)]).tolist()
        self.visits = [self._compile(s.route) for _, s in self.steps]
        self.think = [s.think.sampler(self.random) for _, s in self.steps]
        self.heap: list[tuple[float, int, Callable[..., None], object]] = []
        self.order = 0
        self.active: set[int] = set()
        self.place: dict[int, tuple[int, int]] = {}
        self.joined: list[tuple[float, int]] = []
        self.done: list[tuple[float, float, float, int, bool]] = []
        self.begun: list[float] = []
        self.delays: list[tuple[float, float]] = []

    def run(self) -> RunData:
        """Simulate the whole profile and return what a run would have measured."""
        self._plan_users()
        heap = self.heap
        end = float(self.seconds)
        while heap and heap[0][0] < end:
            now, _, act, subject = heapq.heappop(heap)
            act(now, subject)
        return self.collected()

    def _compile(
        self, route_name: str
    ) -> tuple[tuple[str, _Pool | None, tuple[tuple[_Server, Callable[[], float]], ...]], ...]:
        route = next(r for r in self.config.routes if r.name == route_name)
        compiled = []
        for visit in route.visits:
            stages = tuple(
                (self.servers[f"{visit.component}.{resource}"], self.config.law(ms).sampler(self.random))
                for resource, ms in (("cpu", visit.cpu_ms), ("disk", visit.disk_ms))
                if ms > 0
            )
            compiled.append((visit.component, self.pools.get(visit.component), stages))
        return tuple(compiled)

    def _at(self, time: float, act: Callable[..., None], subject: object) -> None:
        self.order += 1
        heapq.heappush(self.heap, (time, self.order, act, subject))

    def _plan_users(self) -> None:
        """Users join and leave at the moments the profile says, tenths of a second apart in ramps."""
        present = 0
        for tick in range(self.seconds * 10):
            wanted = round(self.profile.users_at(tick / 10))
            for user in range(present, wanted):
                self._at(tick / 10, self._join, user)
            for user in range(wanted, present):
                self._at(tick / 10, self._leave, user)
            present = wanted

    def _join(self, now: float, user: int) -> None:
        self.active.add(user)
        self.joined.append((now, 1))
        self._begin_journey(user)
        self._at(now + self.think[self._step(user)](), self._start, user)

    def _leave(self, now: float, user: int) -> None:
        self.active.discard(user)
        self.joined.append((now, -1))

    def _begin_journey(self, user: int) -> None:
        self.place[user] = (self.deck.draw(), 0)

    def _step(self, user: int) -> int:
        journey, position = self.place[user]
        return int(self.first_step[journey]) + position

    def _start(self, now: float, user: int) -> None:
        if user not in self.active:
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
        self._arrive(now, _Request(user, step, now, self.visits[step]))

    def _arrive(self, now: float, request: _Request) -> None:
        """Enter the next component, refuse, wait for its pool, or finish."""
        if request.at == len(request.visits):
            self._finish(now, request, failed=False)
            return
        component, pool, _ = request.visits[request.at]
        limit = self.refuse_over[component]
        if limit is not None and self.inside[component] >= limit:
            for visited, _, _ in request.visits[: request.at]:
                self.inside[visited] -= 1
            self._at(now + REFUSAL_S, self._refused, request)
            return
        self.inside[component] += 1
        if pool is not None:
            if pool.in_use >= pool.limit:
                pool.waiting.append((now, request))
                pool.changes.append((now, 0, 1))
                return
            pool.in_use += 1
            pool.changes.append((now, 1, 0))
        self._serve(now, request)

    def _serve(self, now: float, request: _Request) -> None:
        _, pool, stages = request.visits[request.at]
        if request.stage == len(stages):
            self._leave_component(now, request, pool)
            return
        server, draw = stages[request.stage]
        request.stage += 1
        start = max(now, server.free_at[0])
        end = start + draw()
        heapq.heapreplace(server.free_at, end)
        _spread(server.busy, start, end)
        self._at(end, self._serve, request)

    def _leave_component(self, now: float, request: _Request, pool: _Pool | None) -> None:
        request.at += 1
        request.stage = 0
        if pool is not None:
            if pool.waiting:
                _, waiter = pool.waiting.popleft()
                pool.changes.append((now, 0, -1))
                self._serve(now, waiter)
            else:
                pool.in_use -= 1
                pool.changes.append((now, -1, 0))
        if request.at == len(request.visits):
            # As over sockets, the components visited are occupied until the answer leaves.
            for visited, _, _ in request.visits:
                self.inside[visited] -= 1
        self._arrive(now, request)

    def _refused(self, now: float, request: _Request) -> None:
        self._finish(now, request, failed=True)

    def _finish(self, now: float, request: _Request, *, failed: bool) -> None:
        """The answer is there; the user goes on when the generator has seen it."""
        when, since = self.loop.handled(now)
        blind = min(when - since, when - request.start)
        self.done.append((request.start, when, blind, request.step, failed))
        act = self._fail if failed else self._succeed
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
        journey, position = self.place[user]
        if failed or position + 1 == len(self.journeys[journey].steps):
            self._begin_journey(user)
        else:
            self.place[user] = (journey, position + 1)
        self._at(now + self.think[request.step](), self._start, user)

    def requests(self) -> Requests:
        """Every request that succeeded, once the twin has run."""
        done = np.array(self.done, dtype=np.float64).reshape(-1, 5)
        start, end, blind, step, _ = done[done[:, 4] == 0].T
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
        done = np.array(self.done, dtype=np.float64).reshape(-1, 5)
        start, end, blind, step, failed = *done[:, :3].T, done[:, 3].astype(np.int64), done[:, 4] > 0
        begun = np.sort(np.array(self.begun))
        good = ~failed
        shape = (n, len(self.steps))
        kept = self.requests()
        return RunData(
            steps=tuple(
                StepInfo(journey, s.route, s.think.mean_s, s.think.coefficient_of_variation)
                for journey, s in self.steps
            ),
            planned_users=self.profile.users_over(np.arange(n, dtype=np.float64)),
            users=_mean_level(np.array([t for t, _ in self.joined]), np.array([d for _, d in self.joined]), n),
            in_flight=_mean_level(
                np.concatenate([begun, end]),
                np.concatenate([np.ones(begun.size), -np.ones(end.size)]),
                n,
            ),
            overdue=_mean_level(
                np.array([t for pair in self.delays for t in pair]),
                np.tile([1.0, -1.0], len(self.delays)),
                n,
            ),
            blind=_sums(end, np.zeros(end.size, dtype=np.int64), blind, (n, 1))[:, 0],
            start_gap_s=_longest_gaps(begun, n),
            reasons=Reasons.none(n, cpu=0.05),
            stalls=np.array(self.loop.stalls, dtype=np.float64).reshape(-1, 2),
            started=_counts(start, step, shape),
            completed=_counts(end, step, shape),
            errors=_counts(end[failed], step[failed], shape),
            response_sum_s=_sums(end[good], step[good], (end - start)[good], shape),
            blind_sum_s=_sums(end[good], step[good], blind[good], shape),
            histograms=HistogramSeries.from_observations(kept.second, kept.step, kept.response_us),
            low_histograms=HistogramSeries.from_observations(kept.second, kept.step, kept.response_us - kept.blind_us),
            resources=self._resources(),
            error_kinds={"status 503": _per_second(end[failed], n).astype(np.int64)},
        )

    def _resources(self) -> tuple[ResourceSeries, ...]:
        n = self.seconds
        found = []
        for key, server in self.servers.items():
            component, name = key.split(".")
            count = len(server.free_at)
            noise = self.noise.normal(0, self.cpu_noise, n)
            utilisation = np.clip(server.busy[:n] / count + noise, 0, 1)
            found.append(ResourceSeries(component, name, name, float(count), utilisation))
        for component, pool in self.pools.items():
            times = np.array([t for t, _, _ in pool.changes])
            in_use = _mean_level(times, np.array([u for _, u, _ in pool.changes]), n)
            waiting = _mean_level(times, np.array([w for _, _, w in pool.changes]), n)
            found.append(
                ResourceSeries(component, "connections", "pool", float(pool.limit), in_use / pool.limit, waiting)
            )
        return tuple(found)


def simulate(
    config: PracticeConfig,
    journeys: Sequence[TwinJourney],
    profile: LoadProfile,
    *,
    seed: int = 1,
    cpu_noise: float = 0.01,
    loop: Loop | None = None,
) -> RunData:
    """Play ``profile`` against ``config`` in virtual time. ``cpu_noise`` is the standard deviation
    of utilisation readings; ``loop`` a generator that is not always there."""
    return Twin(config, journeys, profile, seed=seed, cpu_noise=cpu_noise, loop=loop).run()


def _spread(busy: FloatArray, start: float, end: float) -> None:
    """Add the seconds of work in [start, end) to the second each part falls in."""
    last = len(busy) - 1
    first = int(start)
    if first >= last:
        return
    while end > first + 1 and first < last:
        busy[first] += first + 1 - start
        first += 1
        start = float(first)
    if first < last:
        busy[first] += end - start


def _mean_level(times: FloatArray, changes: FloatArray, seconds: int) -> FloatArray:
    """Time-weighted mean per second of a level that changes by ``changes`` at ``times``."""
    if times.size == 0:
        return np.zeros(seconds)
    order = np.argsort(times, kind="stable")
    times, changes = times[order], changes[order]
    level = np.concatenate([[0.0], np.cumsum(changes)])
    area = np.concatenate([[0.0], np.cumsum(level[1:-1] * np.diff(times))])
    edges = np.arange(seconds + 1, dtype=np.float64)
    at = np.searchsorted(times, edges, side="right")
    before = np.maximum(at - 1, 0)
    total = np.where(at > 0, area[before] + level[at] * (edges - times[before]), 0.0)
    return np.diff(total)


def _per_second(times: FloatArray, seconds: int) -> FloatArray:
    inside = times[times < seconds]
    return np.bincount(inside.astype(np.int64), minlength=seconds).astype(np.float64)


def _longest_gaps(starts: FloatArray, seconds: int) -> FloatArray:
    longest = np.zeros(seconds)
    if starts.size > 1:
        np.maximum.at(longest, np.minimum(starts[1:].astype(np.int64), seconds - 1), np.diff(starts))
    return longest


def _counts(times: FloatArray, step: IntArray, shape: tuple[int, int]) -> IntArray:
    return _sums(times, step, np.ones(times.size), shape).astype(np.int64)


def _sums(times: FloatArray, step: IntArray, values: FloatArray, shape: tuple[int, int]) -> FloatArray:
    inside = times < shape[0]
    flat = times[inside].astype(np.int64) * shape[1] + step[inside]
    return np.asarray(np.bincount(flat, values[inside], shape[0] * shape[1]).reshape(shape), dtype=np.float64)
