"""The system: what is measured, of what components, metered how, and what "full" means for each."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.plan.calls import Change
from stonekettle.plan.credentials import Credentials
from stonekettle.plan.parts import Name, Part, address
from stonekettle.plan.quantities import Bytes

MAX_INSTANCES = 1_000
Kind = Literal["cpu", "disk", "memory", "network", "pool", "threads", "queue"]
Direction = Literal["used", "free"]


class ResourceMapping(Part):
    """How a metric becomes a resource with a utilisation.

    Utilisation is the metric over the capacity: a gauge as it is, a counter (busy seconds, bytes)
    by its rate. With ``direction: free`` the metric tells what is left. Only series whose labels
    match ``labels`` and none of ``without`` count. The capacity is a number in the metric's unit,
    another metric, or what the instance type says; ``series`` counts the metric's own label sets
    (so many disks). ``waiting_metric`` counts those queueing.
    """

    name: Name
    kind: Kind
    metric: Name
    unit: str = Field(default="", max_length=40)
    labels: dict[str, str] = Field(default_factory=dict)
    without: dict[str, tuple[str, ...]] = Field(default_factory=dict)
    direction: Direction = "used"
    capacity: float | None = Field(default=None, gt=0)
    capacity_metric: Name | None = None
    capacity_from: Literal["vcpus", "memory", "series"] | None = None
    waiting_metric: Name | None = None

    @model_validator(mode="after")
    def _one_capacity(self) -> ResourceMapping:
        given = [self.capacity, self.capacity_metric, self.capacity_from]
        if sum(part is not None for part in given) != 1:
            raise PydanticCustomError(
                "capacity",
                "{name} needs exactly one of capacity, capacity_metric and capacity_from.",
                {"name": repr(self.name), "mend": "Give what 'full' means once."},
            )
        return self


class Meter(Part):
    """A source of metrics of a component: exactly one of

    ``openmetrics``: addresses of text pages, one for each instance;
    ``otlp``: the ``service.name`` under which its metrics are pushed to the server;
    ``server_timing``: the name under which responses tell the time spent in it.
    ``labels`` choose series that carry them.
    """

    openmetrics: tuple[str, ...] | None = Field(default=None, max_length=MAX_INSTANCES)
    otlp: Name | None = None
    server_timing: Name | None = None
    labels: dict[str, str] = Field(default_factory=dict)
    credentials: Credentials | None = None
    resources: tuple[ResourceMapping, ...] = Field(default=(), max_length=200)

    @field_validator("openmetrics", mode="before")
    @classmethod
    def _one_or_many(cls, value: object) -> object:
        return (value,) if isinstance(value, str) else value

    @field_validator("openmetrics")
    @classmethod
    def _addresses(cls, value: tuple[str, ...] | None) -> tuple[str, ...] | None:
        if value == ():
            raise PydanticCustomError(
                "addresses", "the meter has no address.", {"mend": "Write http://host:port/metrics."}
            )
        return None if value is None else tuple(address(item) for item in value)

    @model_validator(mode="after")
    def _one_source(self) -> Meter:
        if sum(source is not None for source in (self.openmetrics, self.otlp, self.server_timing)) != 1:
            raise PydanticCustomError(
                "meter",
                "a meter needs exactly one of openmetrics, otlp and server_timing.",
                {"mend": "Give each source a meter of its own."},
            )
        return self

    @property
    def sources(self) -> tuple[str, ...]:
        """Where the metrics come from, in a word or an address each."""
        if self.openmetrics is not None:
            return self.openmetrics
        return (f"pushed as {self.otlp}",) if self.otlp else (f"responses, as {self.server_timing}",)


class InstanceType(Part):
    """What one instance is: cores, memory and price per hour in the system's currency."""

    name: str = Field(default="", max_length=80)
    vcpus: float | None = Field(default=None, gt=0)
    memory: Bytes | None = None
    price_per_hour: float | None = Field(default=None, ge=0)


class Component(Part):
    """A part of a system that can be scaled and metered on its own; ``calls`` names the components
    it depends on."""

    name: Name
    role: str = Field(default="", max_length=200)
    instances: int = Field(default=1, ge=1, le=MAX_INSTANCES)
    instance_type: InstanceType | None = None
    version: str = Field(default="", max_length=80)
    notes: str = Field(default="", max_length=5_000)
    calls: tuple[Name, ...] = Field(default=(), max_length=200)
    meters: tuple[Meter, ...] = Field(default=(), max_length=20)

    @model_validator(mode="before")
    @classmethod
    def _single_meter(cls, value: object) -> object:
        """``meter:`` is short for a list of one."""
        if isinstance(value, dict) and "meter" in value and "meters" not in value:
            rest = {key: item for key, item in value.items() if key != "meter"}
            return rest if value["meter"] is None else {**rest, "meters": [value["meter"]]}
        return value


class Operations(Part):
    """Where the system is changed by calls: deployments, restarts, settings. Calls to this origin carry the
    ``credentials``, those that are signed an HMAC by the ``signing_key``. The ``changes`` can be asked for while a run
    is under way."""

    address: str
    credentials: Credentials | None = None
    signing_key: str | None = Field(default=None, min_length=8, max_length=500)
    changes: tuple[Change, ...] = Field(default=(), max_length=20)

    @field_validator("address")
    @classmethod
    def _is_address(cls, value: str) -> str:
        return address(value).rstrip("/")


class System(Part):
    """What is measured, reached at ``base_url``."""

    name: Name
    base_url: str
    currency: str = Field(default="EUR", pattern=r"^[A-Z]{3}$")
    notes: str = Field(default="", max_length=5_000)
    operations: Operations | None = None
    components: tuple[Component, ...] = Field(default=(), max_length=200)

    @field_validator("base_url")
    @classmethod
    def _is_address(cls, value: str) -> str:
        return address(value).rstrip("/")

    @property
    def cost_per_hour(self) -> float | None:
        """What its priced instances cost, in its currency; None where none has a price."""
        prices = [
            component.instances * component.instance_type.price_per_hour
            for component in self.components
            if component.instance_type is not None and component.instance_type.price_per_hour is not None
        ]
        return sum(prices) if prices else None

    @property
    def meters(self) -> tuple[tuple[Component, Meter], ...]:
        return tuple((component, meter) for component in self.components for meter in component.meters)

    @property
    def addresses(self) -> tuple[tuple[str, str], ...]:
        """Every address the system is reached or metered at, with its path in the document."""
        found = [("base_url", self.base_url)]
        if self.operations is not None:
            found.append(("operations.address", self.operations.address))
        for i, component in enumerate(self.components):
            for j, meter in enumerate(component.meters):
                for k, where in enumerate(meter.openmetrics or ()):
                    found.append((f"components[{i}].meters[{j}].openmetrics[{k}]", where))
        return tuple(found)
