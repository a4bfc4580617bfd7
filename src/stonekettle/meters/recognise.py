"""Which resources do well-known metric names describe? Mappings nobody needs to write.

A rule names the ending of a metric (any prefix goes, dots count as underscores), what full means,
and which labels count. The first rule that fits a resource's name wins.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal

from stonekettle.plan.system import Component, Direction, Kind, ResourceMapping


@dataclass(frozen=True)
class _Rule:
    name: str
    kind: Kind
    metric: str
    capacity: float | None = None
    capacity_metric: str | None = None
    capacity_from: Literal["vcpus", "memory", "series"] | None = None
    waiting_metric: str | None = None
    direction: Direction = "used"
    unit: str = ""
    labels: dict[str, str] = field(default_factory=dict)
    without: dict[str, tuple[str, ...]] = field(default_factory=dict)


_BUSY_MODES = ("user", "nice", "system", "irq", "softirq", "steal", "guest", "guest_nice", "interrupt")
_RULES = (
    # What is neither idle nor waiting for a disk is work. A virtual machine may count time that its host took as
    # idle too, so what was idle tells more than what was not.
    _Rule(
        "cpu", "cpu", "cpu_mode_seconds", capacity_metric="cpu_cores", waiting_metric="run_queue_waiting",
        direction="free", unit="s", without={"mode": _BUSY_MODES},
    ),
    _Rule("cpu", "cpu", "cpu_busy_seconds", capacity_metric="cpu_cores", waiting_metric="run_queue_waiting", unit="s"),
    _Rule("cpu", "cpu", "cpu_seconds", capacity_metric="cpu_cores", unit="s"),
    _Rule(
        "cpu", "cpu", "node_cpu_seconds", capacity_from="series", direction="free", unit="s",
        without={"mode": _BUSY_MODES},
    ),
    _Rule(
        "cpu", "cpu", "system_cpu_time", capacity_from="series", direction="free", unit="s",
        without={"state": _BUSY_MODES},
    ),
    _Rule(
        "cpu", "cpu", "system_cpu_utilization", capacity_from="series", direction="free",
        without={"state": _BUSY_MODES},
    ),
    _Rule("cpu", "cpu", "container_cpu_usage_seconds", capacity_from="vcpus", unit="s"),
    _Rule("cpu", "cpu", "process_cpu_seconds", capacity_from="vcpus", unit="s"),
    _Rule("memory", "memory", "memory_used_bytes", capacity_metric="memory_limit_bytes", unit="bytes"),
    _Rule(
        "memory", "memory", "memory_MemAvailable_bytes", capacity_metric="memory_MemTotal_bytes",
        direction="free", unit="bytes",
    ),
    _Rule("memory", "memory", "system_memory_utilization", capacity=1.0, labels={"state": "used"}),
    _Rule("memory", "memory", "process_resident_memory_bytes", capacity_from="memory", unit="bytes"),
    _Rule("disk", "disk", "disk_busy_seconds", capacity_metric="disk_devices", unit="s"),
    _Rule("disk", "disk", "disk_busy_seconds", capacity_from="series", unit="s"),
    _Rule("disk", "disk", "disk_io_time_seconds", capacity_from="series", unit="s"),
    _Rule(
        "network received", "network", "network_received_bytes",
        capacity_metric="network_limit_bytes_per_second", unit="bytes",
    ),
    _Rule(
        "network sent", "network", "network_sent_bytes",
        capacity_metric="network_limit_bytes_per_second", unit="bytes",
    ),
    _Rule(
        "connections", "pool", "pool_connections_in_use",
        capacity_metric="pool_connections_limit", waiting_metric="pool_connections_waiting",
    ),
    _Rule("threads", "threads", "threads_busy", capacity_metric="threads_limit", waiting_metric="threads_waiting"),
    _Rule("queue", "queue", "queue_length", capacity_metric="queue_limit"),
)  # fmt: skip


NAMES = tuple(dict.fromkeys(rule.name for rule in _RULES))
"""What resources are called that are recognised."""


def recognise(metrics: Iterable[str], component: Component) -> tuple[ResourceMapping, ...]:
    """Mappings for the resources that a component's metrics name in a known way."""
    names = sorted(metrics)
    found: dict[str, ResourceMapping] = {}
    for rule in _RULES:
        metric = _ending(names, rule.metric)
        capacity_metric = _ending(names, rule.capacity_metric)
        if rule.name in found or metric is None or (rule.capacity_metric and capacity_metric is None):
            continue
        kind = component.instance_type
        if rule.capacity_from in ("vcpus", "memory") and not (kind and getattr(kind, rule.capacity_from)):
            continue
        found[rule.name] = ResourceMapping(
            name=rule.name,
            kind=rule.kind,
            metric=metric,
            unit=rule.unit,
            labels=rule.labels,
            without=rule.without,
            direction=rule.direction,
            capacity=rule.capacity,
            capacity_metric=capacity_metric,
            capacity_from=rule.capacity_from,
            waiting_metric=_ending(names, rule.waiting_metric),
        )
    return tuple(found.values())


def mappings(metrics: Iterable[str], component: Component) -> tuple[ResourceMapping, ...]:
    """What the planner mapped, and what is recognised beside it under other names."""
    written = {mapping.name: mapping for meter in component.meters for mapping in meter.resources}
    recognised = {mapping.name: mapping for mapping in recognise(metrics, component)}
    return tuple({**recognised, **written}.values())


def _ending(names: Iterable[str], ending: str | None) -> str | None:
    if ending is None:
        return None
    plain = {name: name.replace(".", "_") for name in names}
    return next((name for name, text in plain.items() if text == ending or text.endswith(f"_{ending}")), None)
