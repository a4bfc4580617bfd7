"""The practice system's shape: components, their capacities, and what each route asks of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import yaml
from pydantic import TypeAdapter, ValidationError

from stonekettle.core.distribution import Law, LawName

CACHE_HIT_COST = 0.2
"""A cached answer's share of the mean service time."""


class PracticeConfigError(ValueError):
    """A practice configuration that cannot be played; the message names the field."""


@dataclass(frozen=True)
class Version:
    """A version that a component can be deployed in: its work takes ``work`` times as long, it needs ``memory`` times
    as much, and it is up ``boots_s`` after it was deployed."""

    name: str
    work: float = 1.0
    memory: float = 1.0
    boots_s: float = 2.0


@dataclass(frozen=True)
class Size:
    """What an instance can be: so many ``cpus``, for a price an hour."""

    name: str
    cpus: int
    price_per_hour: float


@dataclass(frozen=True)
class Component:
    """A component: ``instances`` alike, each with ``cpus`` and ``disks`` servers.

    ``pool`` connections admit that many requests at a time to the whole component (None: no
    limit). Without ``memory_mb`` nothing is known of its memory. With ``refuse_over`` the component answers 503 at
    once when so many are inside.
    ``cache_hits`` is the share of visits its cache answers, at a fifth of the mean time; misses
    take longer, so that the mean stays. With ``remembers`` it answers the last so many addresses at a
    fifth of their time, so that identical data flatter it. With a ``slow_factor`` instances have servers of their own
    and the last one takes so many times as long. ``leak_kb`` of memory is lost with each visit to
    an instance, until it crashes and is back after ``restart_s``. One not ``metered`` has no page.

    What makes systems unlike the textbook: a ``sharing`` cpu serves everybody at once instead of in turn. Each
    visit holds the component's lock for ``lock_ms`` alone, longer by the share ``lock_growth`` for each that waits. A
    cache is cold at first, so that work takes ``cold_factor`` times as long until some ``warms_over`` visits have
    passed. Work grows by the share ``slows_per_minute``. Each ``pause_every_s`` its servers all stand still for
    ``pause_s``; each ``job_every_s`` a job takes ``job_cpus`` of them for ``job_s``. The share ``fails`` of visits
    comes to nothing after its work was done, with ``fails_over`` only while more than so many are inside. A pool
    that is not ``pool_metered`` is not told of. While it is troubled its disks take ``disk_factor`` times as long. A
    slow instance, slow disks, a leak, growing work and jobs may begin later, when it has been up for
    ``troubled_from_s``; slow instances and disks and a leak come in spells of ``spell_s``, one at some moment of each
    ``spell_every_s``, where that is set, and the cache is cold again as one begins.

    Of n instances each works the share ``contention`` longer for each other one, and ``coherency`` for each pair of
    them: 1 + σ(n − 1) + κn(n − 1) times as long.

    It starts in the first of its ``versions``; the practice cloud deploys another one. An instance that the cloud adds
    is up after ``boots_s``, which varies by ``boots_variation`` (a coefficient, log-normally). It can give all of them
    another one of the ``sizes``.
    """

    name: str
    instances: int = 1
    cpus: int = 2
    disks: int = 0
    pool: int | None = None
    refuse_over: int | None = None
    memory_mb: int = 2048
    metered: bool = True
    cache_hits: float | None = None
    remembers: int = 0
    answers_queries: bool = False
    slow_factor: float = 1.0
    disk_factor: float = 1.0
    leak_kb: float = 0.0
    restart_s: float = 4.0
    sharing: bool = False
    lock_ms: float = 0.0
    lock_growth: float = 0.0
    cold_factor: float = 1.0
    warms_over: float = 1.0
    slows_per_minute: float = 0.0
    pause_every_s: float = 0.0
    pause_s: float = 0.0
    job_every_s: float = 0.0
    job_s: float = 0.0
    job_cpus: int = 1
    troubled_from_s: float = 0.0
    spell_every_s: float = 0.0
    spell_s: float = 0.0
    fails: float = 0.0
    fails_over: int = 0
    pool_metered: bool = True
    contention: float = 0.0
    coherency: float = 0.0
    versions: tuple[Version, ...] = ()
    sizes: tuple[Size, ...] = ()
    boots_s: float = 6.0
    boots_variation: float = 0.25

    @property
    def divided(self) -> bool:
        """Whether each instance has servers of its own."""
        return self.slow_factor != 1.0

    def shared_work(self, instances: int) -> float:
        """How many times as long each visit works with so many instances as with one."""
        return 1 + self.contention * (instances - 1) + self.coherency * instances * (instances - 1)


@dataclass(frozen=True)
class Visit:
    """One use of a component: mean service times in ms at its cpu and its disk, its queries; and how long it keeps its
    place in the pool ``idle`` first.

    One ``beside`` begins together with the one before it; what follows waits for both."""

    component: str
    cpu_ms: float
    disk_ms: float = 0.0
    queries: int = 0
    idle_ms: float = 0.0
    beside: bool = False


@dataclass(frozen=True)
class Route:
    """One address of the public API and the components it visits, in order."""

    method: Literal["GET", "POST"]
    path: str
    visits: tuple[Visit, ...]

    @property
    def name(self) -> str:
        return f"{self.method} {self.path}"

    @property
    def phases(self) -> tuple[tuple[Visit, ...], ...]:
        """The visits, those beside each other together."""
        found: list[tuple[Visit, ...]] = []
        for visit in self.visits:
            if visit.beside and found:
                found[-1] += (visit,)
            else:
                found.append((visit,))
        return tuple(found)


@dataclass(frozen=True)
class PracticeConfig:
    """A whole system. ``service_law`` shapes all service times around their means, with ``service_variation`` where the
    law has a choice of it. With ``drift`` the machine under it is faster and slower by that share, to and fro once in
    ``drift_every_s``, as if it had been for ``drift_from_s`` already. Its cloud
    boots at most ``clones`` instances at a time; with a ``signing_key`` it heeds signed calls alone."""

    components: tuple[Component, ...]
    routes: tuple[Route, ...]
    service_law: LawName = "exponential"
    service_variation: float = 0.5
    seed: int = 7
    drift: float = 0.0
    drift_every_s: float = 1200.0
    drift_from_s: float = 0.0
    signing_key: str = ""
    clones: int = 4

    def __post_init__(self) -> None:
        known = {component.name: component for component in self.components}
        for route in self.routes:
            for visit in route.visits:
                if visit.component not in known:
                    raise PracticeConfigError(
                        f"routes: {route.name} visits {visit.component!r}, which is not a component"
                    )
                if visit.disk_ms > 0 and known[visit.component].disks == 0:
                    raise PracticeConfigError(
                        f"routes: {route.name} uses the disk of {visit.component!r}, which has disks: 0"
                    )

    def component(self, name: str) -> Component:
        return next(c for c in self.components if c.name == name)

    def with_component(self, name: str, **changes: float | None) -> PracticeConfig:
        """The same system with other capacities for one component."""
        components = tuple(
            replace(c, **changes) if c.name == name else c  # type: ignore[arg-type]
            for c in self.components
        )
        return replace(self, components=components)

    def law(self, mean_ms: float) -> Law:
        return Law(self.service_law, mean_ms / 1000, variation=self.service_variation)


PLANNER_VERSIONS = (
    Version("3.3"),
    Version("3.4", work=0.85, memory=1.6, boots_s=4.0),
    Version("3.2", work=1.15),
)
"""The demo's route search: as it is, one that keeps timetables in memory, and an older one that works longer."""


HARBOUR = (Size("harbour-2", 2, 0.05), Size("harbour-4", 4, 0.11), Size("harbour-8", 8, 0.22))
HARBOUR_D = (Size("harbour-4d", 4, 0.19), Size("harbour-8d", 8, 0.36))
"""Those with a fast disk."""


def quillport() -> PracticeConfig:
    """The demo: ``ledger`` saturates at some 190 requests/s, a few hundred users."""
    return PracticeConfig(
        components=(
            Component("gateway", cpus=4, sizes=HARBOUR),
            Component("planner", cpus=4, versions=PLANNER_VERSIONS, sizes=HARBOUR),
            Component("stopboard", cpus=2, memory_mb=1024, cache_hits=0.8, sizes=HARBOUR),
            Component("ledger", cpus=4, disks=1, memory_mb=4096, pool=40, answers_queries=True, sizes=HARBOUR_D),
        ),
        routes=(
            Route("GET", "/", (Visit("gateway", 3),)),
            Route("GET", "/departures", (Visit("gateway", 3), Visit("stopboard", 6))),
            Route("GET", "/trips", (Visit("gateway", 4), Visit("planner", 70))),
            Route("GET", "/tickets/new", (Visit("gateway", 3), Visit("ledger", 10, queries=2))),
            Route("POST", "/tickets", (Visit("gateway", 4), Visit("ledger", 110, disk_ms=12, queries=14))),
            Route("POST", "/tickets/activate", (Visit("gateway", 4), Visit("ledger", 70, disk_ms=8, queries=9))),
        ),
        service_law="lognormal",
    )


def load(path: Path) -> PracticeConfig:
    """Read a configuration from YAML; an empty file is the demo."""
    document = yaml.safe_load(path.read_text()) or {}
    return from_document(document)


def from_document(document: Mapping[str, object]) -> PracticeConfig:
    """Build from plain data: a whole configuration, or the demo with ``changes`` to its components
    and an ``unmetered`` one behind some of its routes, on a machine with a ``drift`` (:class:`PracticeConfig`)."""
    if set(document) <= {"changes", "unmetered", *_MACHINE}:
        return _changed_demo(document)
    try:
        return TypeAdapter(PracticeConfig).validate_python(document)
    except ValidationError as error:
        first = error.errors()[0]
        path = ".".join(str(part) for part in first["loc"])
        raise PracticeConfigError(f"{path}: {first['msg']}") from error


_MACHINE = frozenset({"drift", "drift_every_s", "drift_from_s"})


def _number(name: str, value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise PracticeConfigError(f"{name}: write a number")
    return float(value)


def _changed_demo(document: Mapping[str, object]) -> PracticeConfig:
    config = quillport()
    changes = document.get("changes")
    for name, change in (changes if isinstance(changes, Mapping) else {}).items():
        if name not in {c.name for c in config.components}:
            names = ", ".join(c.name for c in config.components)
            raise PracticeConfigError(f"changes: {name!r} is not a component; there are {names}")
        config = config.with_component(str(name), **dict(change))
    told = {name: _number(name, document[name]) for name in _MACHINE & document.keys()}
    config = replace(config, **told)  # type: ignore[arg-type]
    hidden = document.get("unmetered")
    if hidden is None:
        return config
    try:
        asked = TypeAdapter(_Unmetered).validate_python(hidden)
    except ValidationError as error:
        first = error.errors()[0]
        raise PracticeConfigError(f"unmetered.{'.'.join(map(str, first['loc']))}: {first['msg']}") from error
    known = {route.name for route in config.routes}
    for name in asked.routes:
        if name not in known:
            raise PracticeConfigError(f"unmetered.routes: {name!r} is not a route; there are {', '.join(known)}")
    visit = Visit(asked.name, asked.ms)
    return replace(
        config,
        components=(*config.components, Component(asked.name, cpus=asked.cpus, metered=False)),
        routes=tuple(
            replace(route, visits=(*route.visits, visit)) if route.name in asked.routes else route
            for route in config.routes
        ),
    )


@dataclass(frozen=True)
class _Unmetered:
    """A dependency outside: ``cpus`` servers of ``ms`` each, behind ``routes``, without metrics."""

    name: str
    ms: float
    routes: tuple[str, ...]
    cpus: int = 4
