"""The practice system's shape: components, their capacities, and what each route asks of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import yaml
from pydantic import TypeAdapter, ValidationError

from stonekettle.core.distribution import Law


class PracticeConfigError(ValueError):
    """A practice configuration that cannot be played; the message names the field."""


@dataclass(frozen=True)
class Component:
    """A component: ``instances`` alike, each with ``cpus`` and ``disks`` servers.

    ``pool`` connections admit that many requests at a time to the whole component (None: no
    limit). With ``refuse_over`` the component answers 503 at once when so many are inside.
    """

    name: str
    instances: int = 1
    cpus: int = 2
    disks: int = 0
    pool: int | None = None
    refuse_over: int | None = None
    memory_mb: int = 2048


@dataclass(frozen=True)
class Visit:
    """One use of a component: mean service times in ms at its cpu and its disk."""

    component: str
    cpu_ms: float
    disk_ms: float = 0.0


@dataclass(frozen=True)
class Route:
    """One address of the public API and the components it visits, in order."""

    method: Literal["GET", "POST"]
    path: str
    visits: tuple[Visit, ...]

    @property
    def name(self) -> str:
        return f"{self.method} {self.path}"


@dataclass(frozen=True)
class PracticeConfig:
    """A whole system. ``service_law`` shapes all service times around their means."""

    components: tuple[Component, ...]
    routes: tuple[Route, ...]
    service_law: Literal["fixed", "exponential", "lognormal"] = "exponential"
    seed: int = 7

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

    def with_component(self, name: str, **changes: int | None) -> PracticeConfig:
        """The same system with other capacities for one component."""
        components = tuple(
            replace(c, **changes) if c.name == name else c  # type: ignore[arg-type]
            for c in self.components
        )
        return replace(self, components=components)

    def law(self, mean_ms: float) -> Law:
        return Law(self.service_law, mean_ms / 1000)


def quillport() -> PracticeConfig:
    """The demo: ``ledger`` saturates at some 190 requests/s, a few hundred users."""
    return PracticeConfig(
        components=(
            Component("gateway", cpus=4),
            Component("planner", cpus=4),
            Component("stopboard", cpus=2, memory_mb=1024),
            Component("ledger", cpus=4, disks=1, memory_mb=4096, pool=40),
        ),
        routes=(
            Route("GET", "/", (Visit("gateway", 3),)),
            Route("GET", "/departures", (Visit("gateway", 3), Visit("stopboard", 6))),
            Route("GET", "/trips", (Visit("gateway", 4), Visit("planner", 70))),
            Route("GET", "/tickets/new", (Visit("gateway", 3), Visit("ledger", 10))),
            Route("POST", "/tickets", (Visit("gateway", 4), Visit("ledger", 110, disk_ms=12))),
            Route("POST", "/tickets/activate", (Visit("gateway", 4), Visit("ledger", 70, disk_ms=8))),
        ),
        service_law="lognormal",
    )


def load(path: Path) -> PracticeConfig:
    """Read a configuration from YAML; an empty file is the demo."""
    document = yaml.safe_load(path.read_text()) or {}
    return from_document(document)


def from_document(document: Mapping[str, object]) -> PracticeConfig:
    """Build from plain data. ``components`` may be a mapping of changes to the demo's components."""
    changes = document.get("changes")
    if changes is None and not document:
        return quillport()
    if isinstance(changes, Mapping):
        config = quillport()
        for name, change in changes.items():
            if name not in {c.name for c in config.components}:
                names = ", ".join(c.name for c in config.components)
                raise PracticeConfigError(f"changes: {name!r} is not a component; there are {names}")
            config = config.with_component(str(name), **dict(change))
        return config
    try:
        return TypeAdapter(PracticeConfig).validate_python(document)
    except ValidationError as error:
        first = error.errors()[0]
        path = ".".join(str(part) for part in first["loc"])
        raise PracticeConfigError(f"{path}: {first['msg']}") from error
