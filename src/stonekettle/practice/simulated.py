"""The practice system's own side in virtual time: requests on their way through components, and what meters tell."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from random import Random

import numpy as np

from stonekettle.core.run_data import ResourceSeries
from stonekettle.practice import columns, shapes
from stonekettle.practice.config import Component, PracticeConfig, Visit
from stonekettle.practice.stations import InTurn, Lock, Places, Schedule, Shared, Station

REFUSAL_S = 0.002
REFUSED, FAILED = 1, 2
"""Why a request came to nothing; 0 is a success."""


@dataclass(slots=True)
class _Place:
    """A component at work: how many are inside, and how many it has served."""

    config: Component
    pool: Places | None
    wears: bool
    inside: int = 0
    served: int = 0
    spells: int = 0
    turn: int = 0
    leaked_mb: float = 0.0
    up_at: float = 0.0
    memory_mb: list[float] = field(default_factory=list)
    """What an instance had in use when each second ended, but for the newest ones in which nothing happened."""

    @property
    def used_mb(self) -> float:
        """The memory that an instance uses."""
        return shapes.memory_mb(self.config, self.inside / self.config.instances) + self.leaked_mb

    def settle(self, now: float) -> None:
        """Note the memory of the seconds that have passed."""
        if (passed := int(now) - len(self.memory_mb)) > 0:
            self.memory_mb += [self.used_mb] * passed

    def leak(self, now: float) -> None:
        """Lose memory with a visit; when it is full all instances start anew."""
        if shapes.troubled(self.config, now):
            self.leaked_mb += self.config.leak_kb / 1000 / self.config.instances
            if self.used_mb >= self.config.memory_mb:
                self.leaked_mb, self.up_at = 0.0, now + self.config.restart_s


@dataclass(frozen=True, slots=True)
class _Visit:
    """``stages`` are the stations in turn, each of them one for all instances or one for each, or none where it only
    waits; how long the work there takes, and how many times as long in troubled times."""

    place: _Place
    stages: tuple[tuple[Sequence[Station], Callable[[], float], Callable[[Component, float], float] | None], ...]


Phases = tuple[tuple[_Visit, ...], ...]
"""The visits of a route, those beside each other together."""


@dataclass(slots=True)
class _Request:
    """One on its way: ``open`` are the visits that it waits for, ``error`` what became of it if no success."""

    phases: Phases
    answer: Callable[[float, int], None]
    at: int = 0
    open: int = 0
    error: int = 0
    entered: list[_Place] = field(default_factory=list)


@dataclass(slots=True)
class _Branch:
    """One of the visits that a request is at."""

    request: _Request
    visit: _Visit
    stage: int = 0
    instance: int = 0


class SimulatedSystem:
    """Components with their servers, locks and pools; ``schedule`` has something done at a time (s)."""

    def __init__(self, config: PracticeConfig, random: Random, schedule: Schedule) -> None:
        self._config, self._random, self._schedule = config, random, schedule
        self._drifts = config.drift != 0.0
        self._servers: dict[str, list[Station]] = {}
        self._locks: dict[str, Lock] = {}
        self._places = {c.name: self._build(c) for c in config.components}

    def take(self, now: float, phases: Phases, answer: Callable[[float, int], None]) -> None:
        """Let a request make these visits; ``answer(time, error)`` when it is through, or came to nothing."""
        self._go(now, _Request(phases, answer))

    def _build(self, component: Component) -> _Place:
        pauses = shapes.pauses_of(component)
        kind = Shared if component.sharing else InTurn
        sets, share = (component.instances, 1) if component.divided else (1, component.instances)
        if component.cpus:
            cpus = [kind(component.cpus * share, pauses, self._schedule) for _ in range(sets)]
            self._servers[f"{component.name}.cpu"] = [*cpus]
        if component.disks:
            disks = [InTurn(component.disks * share, pauses, self._schedule) for _ in range(sets)]
            self._servers[f"{component.name}.disk"] = [*disks]
        self._locks[component.name] = Lock(component.lock_growth, pauses, self._schedule)
        if component.job_every_s > 0:
            self._schedule(component.troubled_from_s + component.job_every_s, self._job, component)
        pool = Places(component.pool) if component.pool is not None else None
        return _Place(component, pool, shapes.wears(component))

    def _job(self, now: float, component: Component) -> None:
        for _ in range(component.job_cpus):
            self._servers[f"{component.name}.cpu"][0].serve(now, component.job_s, lambda *_: None, None)
        self._schedule(now + component.job_every_s, self._job, component)

    def compiled(self, route_name: str) -> Phases:
        """A route's visits, ready to be made."""
        route = next(r for r in self._config.routes if r.name == route_name)
        return tuple(tuple(self._compile_visit(visit) for visit in together) for together in route.phases)

    def _compile_visit(self, visit: Visit) -> _Visit:
        name = visit.component
        config = self._places[name].config
        stages = tuple(
            (stations, self._config.law(ms).sampler(self._random), slowness)
            for stations, ms, slowness in (
                ([], visit.idle_ms, None),
                (self._servers.get(f"{name}.cpu"), visit.cpu_ms * config.shared_work(config.instances), None),
                (self._servers.get(f"{name}.disk"), visit.disk_ms, shapes.disk_slowness),
                ([self._locks[name]], config.lock_ms, None),
            )
            if stations is not None and ms > 0
        )
        return _Visit(self._places[name], stages)

    def _go(self, now: float, request: _Request) -> None:
        """On to the next visits, or answer."""
        if request.error or request.at == len(request.phases):
            # As over sockets, the components visited are occupied until the answer leaves.
            for place in request.entered:
                place.settle(now)
                place.inside -= 1
                if place.config.leak_kb:
                    place.leak(now)
            request.answer(now, request.error)
            return
        phase = request.phases[request.at]
        request.at += 1
        request.open = len(phase)
        for visit in phase:
            self._arrive(now, _Branch(request, visit))

    def _arrive(self, now: float, branch: _Branch) -> None:
        """Enter a component: be refused, wait for its pool, or be served."""
        place = branch.visit.place
        limit = place.config.refuse_over
        if now < place.up_at or (limit is not None and place.inside >= limit):
            branch.request.error = REFUSED
            self._schedule(now + REFUSAL_S, self._end_visit, branch)
            return
        place.settle(now)
        place.inside += 1
        place.turn += 1
        branch.instance = place.turn % place.config.instances
        branch.request.entered.append(place)
        if place.pool is not None:
            place.pool.enter(now, self._serve, branch)
        else:
            self._serve(now, branch)

    def _serve(self, now: float, branch: _Branch) -> None:
        visit, stage = branch.visit, branch.stage
        place = visit.place
        if stage < len(visit.stages):
            branch.stage += 1
            stations, draw, slowness = visit.stages[stage]
            work_s = draw()
            if not stations:
                self._schedule(now + work_s, self._serve, branch)
                return
            if place.wears:
                if (spells := shapes.spells(place.config, now)) != place.spells:
                    place.spells, place.served = spells, 0
                work_s *= shapes.wear(place.config, now, place.served)
            if slowness is not None:
                work_s *= slowness(place.config, now)
            if self._drifts:
                work_s *= shapes.drifted(self._config, now)
            if len(stations) == 1:
                stations[0].serve(now, work_s, self._serve, branch)
                return
            work_s *= shapes.slowness(place.config, now, branch.instance)
            stations[branch.instance].serve(now, work_s, self._serve, branch)
            return
        place.served += 1
        if place.pool is not None:
            place.pool.leave(now)
        config = place.config
        if config.fails and place.inside > config.fails_over and self._random.random() < config.fails:
            branch.request.error = FAILED
        self._end_visit(now, branch)

    def _end_visit(self, now: float, branch: _Branch) -> None:
        request = branch.request
        request.open -= 1
        if not request.open:
            self._go(now, request)

    def resources(self, until: float, noise: np.random.Generator, cpu_noise: float) -> tuple[ResourceSeries, ...]:
        """What its meters tell up to a time (s); utilisation with noise of so much standard deviation."""
        n = int(np.ceil(until))
        found = []
        for key, stations in self._servers.items():
            component, name = key.split(".")
            for station in stations:
                station.settle(until)
            wrong = noise.normal(0, cpu_noise, n)
            if not self._places[component].config.metered:
                continue
            servers = float(sum(station.servers for station in stations))
            each = [columns.first(station.busy, n) for station in stations]
            busy = np.clip(sum(each) / servers + wrong, 0, 1)
            instances = {
                f"{component}-{number}": np.clip(own / station.servers + wrong, 0, 1)
                for number, (own, station) in enumerate(zip(each, stations, strict=True), 1)
                if len(stations) > 1
            }
            found.append(ResourceSeries(component, name, name, np.full(n, servers), busy, instances=instances))
        for component, place in self._places.items():
            pool = place.pool
            if place.config.metered and place.config.memory_mb:
                place.settle(until)
                limit = np.full(n, place.config.memory_mb * place.config.instances * shapes.MEGABYTE)
                used = np.array([*place.memory_mb, place.used_mb][:n]) / place.config.memory_mb
                found.append(ResourceSeries(component, "memory", "memory", limit, np.minimum(used, 1.0)))
            if pool is None or not place.config.metered or not place.config.pool_metered:
                continue
            times = np.array([t for t, _, _ in pool.changes])
            in_use = columns.mean_level(times, np.array([u for _, u, _ in pool.changes]), n)
            waiting = columns.mean_level(times, np.array([w for _, _, w in pool.changes]), n)
            limit = np.full(n, float(pool.limit))
            found.append(ResourceSeries(component, "connections", "pool", limit, in_use / limit, waiting))
        return tuple(found)
