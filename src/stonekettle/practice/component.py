"""A component of the practice system at work: its instances, their counters, their metrics page."""

from __future__ import annotations

import asyncio
import itertools
import time
from bisect import bisect_left
from collections import Counter, OrderedDict, deque
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from random import Random

from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, HistogramMetricFamily, Metric
from prometheus_client.registry import Collector

from stonekettle.practice import shapes
from stonekettle.practice.config import CACHE_HIT_COST, Component, Size, Version, Visit
from stonekettle.practice.shapes import MEGABYTE
from stonekettle.practice.station import Pool, Servers

LATENCY_BOUNDS_S = (0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0)
BLOCK_BYTES = (4_096, 8_192, 16_384, 65_536, 262_144)
_BLOCK_WEIGHTS = {"read": (6, 30, 8, 3, 1), "write": (10, 16, 12, 8, 4)}
VISIT_BYTES = 900
"""What an inner component answers, on the wire."""


@dataclass(frozen=True)
class Draws:
    """How long a visit works at the cpu, at the disk and under the lock, and is idle before, each time anew (s); None
    where it does not."""

    cpu: Callable[[], float]
    disk: Callable[[], float] | None
    lock: Callable[[], float] | None
    idle: Callable[[], float] | None = None


class Refused(Exception):
    """A component is over its limit, or the instance asked is restarting: it answers 503 at once."""


class Failed(Exception):
    """A visit came to nothing after its work was done: it answers 500."""


class Spread:
    """Counts of values under upper bounds, as a metrics page tells them."""

    def __init__(self, bounds: tuple[float, ...]) -> None:
        self.bounds = bounds
        self.counts = [0] * (len(bounds) + 1)
        self.sum = 0.0

    def add(self, value: float) -> None:
        self.counts[bisect_left(self.bounds, value)] += 1
        self.sum += value

    def cumulative(self) -> list[tuple[str, float]]:
        found: list[tuple[str, float]] = []
        so_far = 0
        for bound, count in zip((*map(str, self.bounds), "+Inf"), self.counts, strict=True):
            so_far += count
            found.append((bound, so_far))
        return found


class LiveInstance(Collector):
    """One instance: what it counted since it started, and whether it is up.

    Its servers may be its own, or its even share of the component's; it has a ``version`` and so many ``cpus``. On the
    clock of its component: when it was ``asked_at``, ``joined_at`` those that get work, got its first (``first_at``),
    and ``left_at`` for good.
    """

    def __init__(self, component: LiveComponent, number: int, up_at: float = 0.0) -> None:
        self.component, self.number = component, number
        self.version, self.cpus = component.version, component.cpus
        self.inside = 0
        self.asked_at, self.up_at = component.clock(), up_at
        self.joined_at: float | None = None
        self.first_at: float | None = None
        self.left_at: float | None = None
        self._begin()

    def _begin(self) -> None:
        self.started_at = time.time()
        self.cpu_s = self.disk_s = 0.0
        self.counts: Counter[str] = Counter()
        self.latency = {op: Spread(LATENCY_BOUNDS_S) for op in ("read", "write")}
        self.blocks = {op: Spread(BLOCK_BYTES) for op in ("read", "write")}
        self.leaked = 0.0

    @property
    def is_up(self) -> bool:
        return self.left_at is None and self.component.clock() >= self.up_at

    @property
    def memory_used(self) -> float:
        return shapes.memory_mb(self.component.config, self.inside, self.version.memory) * MEGABYTE + self.leaked

    @property
    def is_as_asked(self) -> bool:
        """Whether it is up, of the version and the size that its component was last given."""
        return self.is_up and (self.version, self.cpus) == (self.component.version, self.component.cpus)

    def leak(self) -> None:
        """Lose some memory with every request; when it is full, crash and start anew."""
        config = self.component.config
        if shapes.troubled(config, self.component.clock()):
            self.leaked += config.leak_kb * 1000
        if self.leaked and self.memory_used >= config.memory_mb * MEGABYTE:
            self.boot(self.component.clock() + config.restart_s)

    def boot(self, up_at: float) -> None:
        """Start anew, and be up then."""
        self.component.settle()
        self.renew(up_at)

    def renew(self, up_at: float) -> None:
        """As :meth:`boot`, where its component has just settled."""
        self.up_at = up_at
        self._begin()

    def collect(self) -> Iterator[Metric]:
        self.component.settle()
        config, counts, instances = self.component.config, self.counts, len(self.component.joined)
        yield GaugeMetricFamily("process_start_time_seconds", "Start of the process", self.started_at)
        yield CounterMetricFamily("quillport_cpu_seconds", "Busy seconds of all cores", self.cpu_s)
        yield GaugeMetricFamily("quillport_cpu_cores", "Cores", self.cpus)
        yield GaugeMetricFamily("quillport_memory_used_bytes", "Memory in use", self.memory_used)
        yield GaugeMetricFamily("quillport_memory_limit_bytes", "Memory", config.memory_mb * MEGABYTE)
        if config.disks:
            yield CounterMetricFamily("quillport_disk_busy_seconds", "Busy seconds of all disks", self.disk_s)
            yield GaugeMetricFamily("quillport_disk_devices", "Disks", config.disks)
            yield _histogram(
                "quillport_disk_latency_seconds", "Time of a disk operation, waiting included", self.latency
            )
            yield _histogram("quillport_disk_block_bytes", "Size of a disk operation", self.blocks)
        if (pool := self.component.pool) and config.pool_metered:
            in_use, limit, waiting = pool.in_use / instances, pool.limit / instances, pool.waiting / instances
            yield GaugeMetricFamily("quillport_pool_connections_in_use", "Connections in use", in_use)
            yield GaugeMetricFamily("quillport_pool_connections_limit", "Connections allowed", limit)
            yield GaugeMetricFamily("quillport_pool_connections_waiting", "Requests waiting for one", waiting)
        if config.cache_hits is not None or config.remembers:
            yield CounterMetricFamily("quillport_cache_hits", "Answers found in the cache", counts["hits"])
            yield CounterMetricFamily("quillport_cache_misses", "Answers not in the cache", counts["misses"])
        if config.answers_queries:
            yield CounterMetricFamily("quillport_queries", "Database queries", counts["queries"])
        if config.answers_queries:
            activated = self.component.activated if self.number == 0 else 0
            yield CounterMetricFamily("quillport_tickets_activated", "Day tickets activated", activated)
        yield CounterMetricFamily("quillport_network_sent_bytes", "Bytes sent", counts["sent"])
        yield GaugeMetricFamily("quillport_requests_inside", "Requests inside", self.inside)
        yield CounterMetricFamily("quillport_requests", "Requests answered", counts["served"])
        yield CounterMetricFamily("quillport_requests_refused", "Requests refused", counts["refused"])


class LiveComponent:
    """A component's simulated capacity, shared by its instances or, with a slow one, divided."""

    def __init__(
        self,
        config: Component,
        clock: Callable[[], float],
        random: Random,
        drift: Callable[[float], float] = lambda at: 1.0,
    ) -> None:
        self.config, self.clock, self._random, self._drift = config, clock, random, drift
        self.version = config.versions[0] if config.versions else Version("")
        self.cpus, self.fails = config.cpus, config.fails
        sets, share = (config.instances, 1) if config.divided else (1, config.instances)
        pauses = shapes.pauses_of(config)
        self._cpu = [Servers(config.cpus * share, pauses) for _ in range(sets)]
        self._disk = [Servers(config.disks * share, pauses) for _ in range(sets)] if config.disks else []
        self._told = [(0.0, 0.0)] * sets
        """The work done by each set of servers, at the cpu and at the disk, that its instances were told of."""
        self.pool = Pool(config.pool) if config.pool is not None else None
        self._lock = Pool(1)
        self._served = self._spells = 0
        self._next_job = config.troubled_from_s + config.job_every_s
        self.inside = 0
        self.activated = 0
        self._remembered: OrderedDict[str, None] = OrderedDict()
        self._turn = 0
        self.joined: list[LiveInstance] = []
        """Those that get work."""
        self._to_replace: deque[LiveInstance] = deque()
        self._at_a_time, self._next_at, self._boots_s = 1, 0.0, 0.0
        self.left: list[LiveInstance] = []
        self.instances = [LiveInstance(self, number) for number in range(config.instances)]
        self.numbered = {instance.number: instance for instance in self.instances}
        """Those that are there."""
        self._join()

    def servers_of(self, instance: LiveInstance) -> tuple[Servers, Servers | None]:
        """An instance's cpu and its disk."""
        place = instance.number if self.config.divided else 0
        return self._cpu[place], self._disk[place] if self._disk else None

    def scale(self, up_at: Sequence[float]) -> list[LiveInstance]:
        """Add an instance for each time at which one is up (its clock), with the lowest numbers that are free; those
        added."""
        free = (number for number in itertools.count() if number not in self.numbered)
        return self.begin([(next(free), at) for at in up_at])

    def begin(self, asked: Sequence[tuple[int, float]]) -> list[LiveInstance]:
        """Add instances of these numbers, each up at its time (its clock)."""
        added = [LiveInstance(self, number, at) for number, at in asked]
        self.instances += added
        self.numbered |= {instance.number: instance for instance in added}
        return added

    def lose(self, instance: LiveInstance) -> None:
        """Take an instance away at once; what it began is finished."""
        self.settle()
        instance.left_at = self.clock()
        self.instances.remove(instance)
        del self.numbered[instance.number]
        self.left.append(instance)
        if instance in self._to_replace:
            self._to_replace.remove(instance)
        if instance in self.joined:
            self.joined.remove(instance)
            self._resize()

    def settle(self) -> None:
        """Tell instances of the work that their servers have done, let those join that have come up, and replace those
        whose turn it is."""
        now = self.clock()
        for place, cpu in enumerate(self._cpu):
            done = cpu.busy_seconds(now), self._disk[place].busy_seconds(now) if self._disk else 0.0
            share = [self._by_number(place)] if self.config.divided else self.joined
            for instance in share:
                instance.cpu_s += max(0.0, done[0] - self._told[place][0]) / len(share)
                instance.disk_s += max(0.0, done[1] - self._told[place][1]) / len(share)
            self._told[place] = done
        self._join()
        while self._to_replace and self._next_at <= now:
            self._replace_next()

    def _by_number(self, number: int) -> LiveInstance:
        return next(one for one in (*self.instances, *self.left) if one.number == number)

    def _join(self) -> None:
        new = [one for one in self.instances if one.joined_at is None and one.is_up]
        for instance in new:
            instance.joined_at = instance.up_at or instance.asked_at
        if new:
            self.joined = [one for one in self.instances if one.joined_at is not None]
            self._resize()

    def _resize(self) -> None:
        """As many servers as the instances have that get work; one at least, or nothing would ever end."""
        if not self.config.divided:
            count = max(1, len(self.joined))
            cpus = sum(one.cpus for one in self.joined) or self.cpus
            for servers, so_many in ((self._cpu, cpus), (self._disk, self.config.disks * count)):
                for one in servers:
                    one.resize(self.clock(), so_many)

    def deploy(self, version: Version, at_a_time: int | None = None) -> None:
        """Replace every instance by one of this version: cold, and up after a while. With ``at_a_time`` so many by so
        many, the next as those before are up; work goes to the others meanwhile. Otherwise all at once, and who asks
        then is refused."""
        self.settle()
        self.version, self._served = version, 0
        self._remembered.clear()
        self._replace(version.boots_s, at_a_time)

    def make(self, size: Size, at_a_time: int | None = None) -> None:
        """Replace every instance by one of this size, as a version is deployed."""
        self.settle()
        self.cpus = size.cpus
        self._replace(self.config.boots_s, at_a_time)

    def _replace(self, boots_s: float, at_a_time: int | None) -> None:
        now = self.clock()
        self._to_replace.clear()
        if at_a_time is None:
            for instance in self.instances:
                self._renew(instance, now + boots_s)
            self._resize()
            return
        self._to_replace.extend(self.instances)
        self._at_a_time, self._next_at, self._boots_s = at_a_time, now, boots_s
        self.settle()

    def _replace_next(self) -> None:
        """Begin with the next, at the moment when those before them were up."""
        self._next_at += self._boots_s
        for _ in range(min(self._at_a_time, len(self._to_replace))):
            instance = self._to_replace.popleft()
            self._renew(instance, self._next_at)
            instance.joined_at = None
        self.joined = [one for one in self.joined if one.joined_at is not None]
        self._resize()
        self._join()

    def _renew(self, instance: LiveInstance, up_at: float) -> None:
        instance.version, instance.cpus = self.version, self.cpus
        instance.renew(up_at)

    def enter(self) -> LiveInstance:
        """The instance whose turn it is, of those that have come up. Raises :class:`Refused`."""
        if len(self.joined) < len(self.instances):
            self.settle()
        if not self.joined:
            raise Refused(self.config.name)
        instance = self.joined[self._turn % len(self.joined)]
        self._turn += 1
        limit = self.config.refuse_over
        if not instance.is_up or (limit is not None and self.inside >= limit):
            instance.counts["refused"] += 1
            raise Refused(self.config.name)
        self.inside += 1
        instance.inside += 1
        if instance.first_at is None:
            instance.first_at = self.clock()
        return instance

    def leave(self, instance: LiveInstance, sent: int) -> None:
        self.inside -= 1
        instance.inside -= 1
        instance.counts["served"] += 1
        instance.counts["sent"] += sent
        instance.leak()

    async def serve(
        self,
        instance: LiveInstance,
        visit: Visit,
        draws: Draws,
        at: float,
        op: str,
        address: str = "",
        inner: list[tuple[str, float, float]] | None = None,
    ) -> float:
        """One visit that arrives at ``at`` for a request of ``address``; when it ends (loop seconds). What it waits for
        or does other than at the cpu is added to ``inner``: its name, and from when to when."""
        seen: list[tuple[str, float, float]] = [] if inner is None else inner
        cpu, disk = self.servers_of(instance)
        if self.pool is not None:
            asked = at
            at = await self.pool.enter(at)
            seen.append(("waiting for a connection", asked, at))
        try:
            self._start_jobs(at)
            if draws.idle is not None:
                at = await self._sleep_until(at + draws.idle())
            if (spells := shapes.spells(self.config, at)) != self._spells:
                self._spells, self._served = spells, 0
            slow = shapes.slowness(self.config, at, instance.number) * self._drift(at)
            factor = slow * shapes.wear(self.config, at, self._served) * self._cache_factor(instance, address)
            factor *= instance.version.work * self.config.shared_work(len(self.joined))
            at = await self._sleep_until(cpu.serve(at, draws.cpu() * factor))
            instance.counts["queries"] += visit.queries
            if disk is not None and draws.disk is not None:
                arrived = at
                slow *= shapes.disk_slowness(self.config, at)
                at = await self._sleep_until(disk.serve(at, draws.disk() * slow))
                instance.latency[op].add(at - arrived)
                seen.append(("disk", arrived, at))
                instance.blocks[op].add(self._random.choices(BLOCK_BYTES, _BLOCK_WEIGHTS[op])[0])
            if draws.lock is not None:
                asked = at
                at = await self._hold_the_lock(at, draws.lock() * self._drift(at))
                seen.append(("lock", asked, at))
        finally:
            if self.pool is not None:
                self.pool.leave(at)
        self._served += 1
        if self.fails and self.inside > self.config.fails_over and self._random.random() < self.fails:
            raise Failed(self.config.name)
        return at

    async def _hold_the_lock(self, at: float, work_s: float) -> float:
        """Alone, and the longer the more wait for it."""
        at = await self._lock.enter(at)
        try:
            at = await self._sleep_until(at + work_s * (1 + self.config.lock_growth * self._lock.waiting))
        finally:
            self._lock.leave(at)
        return at

    def _start_jobs(self, now: float) -> None:
        """Put other work that was due by now into the queue."""
        config = self.config
        while config.job_every_s > 0 and self._next_job <= now:
            for _ in range(config.job_cpus):
                self._cpu[0].serve(self._next_job, config.job_s)
            self._next_job += config.job_every_s

    def _cache_factor(self, instance: LiveInstance, address: str) -> float:
        """How much longer than the mean this answer takes. Hits and misses by chance keep the mean;
        addresses that are remembered do not."""
        if self.config.remembers:
            known = address in self._remembered
            self._remembered[address] = None
            self._remembered.move_to_end(address)
            if len(self._remembered) > self.config.remembers:
                self._remembered.popitem(last=False)
            instance.counts["hits" if known else "misses"] += 1
            return CACHE_HIT_COST if known else 1.0
        hits = self.config.cache_hits
        if hits is None:
            return 1.0
        if self._random.random() < hits:
            instance.counts["hits"] += 1
            return CACHE_HIT_COST
        instance.counts["misses"] += 1
        return (1 - hits * CACHE_HIT_COST) / (1 - hits)

    async def _sleep_until(self, end: float) -> float:
        delay = end - self.clock()
        if delay > 0:
            await asyncio.sleep(delay)
        return end


def _histogram(name: str, text: str, by_op: dict[str, Spread]) -> Metric:
    family = HistogramMetricFamily(name, text, labels=["op"])
    for op, spread in by_op.items():
        family.add_metric([op], spread.cumulative(), spread.sum)
    return family
