"""How busy is each resource of a component, from its metrics?

Utilisation is a gauge, or the rate of a counter of busy seconds, over the capacity. A counter
that falls has been reset and counts from zero again (its owner restarted).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from stonekettle.core.run_data import ResourceSeries
from stonekettle.meters.exposition import Metric
from stonekettle.plan.models import ResourceMapping

_RECOGNISED = (
    # kind, name, ending of the metric, of its capacity, of those waiting
    ("cpu", "cpu", "cpu_seconds", "cpu_cores", None),
    ("disk", "disk", "disk_busy_seconds", "disk_devices", None),
    ("memory", "memory", "memory_used_bytes", "memory_limit_bytes", None),
    ("pool", "connections", "pool_connections_in_use", "pool_connections_limit", "pool_connections_waiting"),
)


@dataclass(frozen=True)
class Reading:
    """One resource at one moment, over all instances: utilisation 0..1, servers, those waiting."""

    component: str
    name: str
    kind: str
    servers: float
    utilisation: float
    waiting: float | None

    @property
    def key(self) -> str:
        return f"{self.component}.{self.name}"


def recognise(metrics: Mapping[str, Metric]) -> tuple[ResourceMapping, ...]:
    """Mappings for the resources whose metrics are named in a known way."""
    found = []
    for kind, name, ending, capacity_ending, waiting_ending in _RECOGNISED:
        metric, capacity = _ending(metrics, ending), _ending(metrics, capacity_ending)
        if metric and capacity:
            waiting = _ending(metrics, waiting_ending) if waiting_ending else None
            found.append(
                ResourceMapping(
                    name=name,
                    kind=kind,
                    metric=metric,
                    capacity_metric=capacity,
                    waiting_metric=waiting,
                )
            )
    return tuple(found)


def _ending(metrics: Mapping[str, Metric], ending: str) -> str | None:
    return next((name for name in metrics if name == ending or name.endswith(f"_{ending}")), None)


class InstanceGauge:
    """Turns one instance's successive metrics into busy amounts; remembers the last scrape."""

    def __init__(self) -> None:
        self._last: tuple[float, Mapping[str, Metric]] | None = None

    def amounts(
        self, at: float, metrics: Mapping[str, Metric], mappings: Sequence[ResourceMapping]
    ) -> dict[str, tuple[float, float, float | None]]:
        """Busy amount, capacity and waiting by resource name; ``at`` is the scrape's time in s.

        Counters need an earlier scrape and are absent from the first result.
        """
        last, self._last = self._last, (at, metrics)
        found: dict[str, tuple[float, float, float | None]] = {}
        for mapping in mappings:
            metric = metrics.get(mapping.metric.removesuffix("_total"))
            capacity = mapping.capacity
            if mapping.capacity_metric is not None and mapping.capacity_metric in metrics:
                capacity = metrics[mapping.capacity_metric].value
            if metric is None or not capacity:
                continue
            busy = metric.value
            if metric.kind == "counter":
                if last is None or metric.name not in last[1] or at <= last[0]:
                    continue
                before = last[1][metric.name].value
                busy = (metric.value - (before if metric.value >= before else 0.0)) / (at - last[0])
            waiting = metrics.get(mapping.waiting_metric or "")
            found[mapping.name] = (busy, capacity, waiting.value if waiting else None)
        return found


def combine(
    component: str,
    mappings: Sequence[ResourceMapping],
    instances: Sequence[Mapping[str, tuple[float, float, float | None]]],
) -> tuple[Reading, ...]:
    """One reading per resource over all instances that answered."""
    readings = []
    for mapping in mappings:
        parts = [amounts[mapping.name] for amounts in instances if mapping.name in amounts]
        if not parts:
            continue
        capacity = sum(c for _, c, _ in parts)
        waits = [w for _, _, w in parts if w is not None]
        readings.append(
            Reading(
                component,
                mapping.name,
                mapping.kind,
                capacity,
                min(1.0, sum(b for b, _, _ in parts) / capacity),
                sum(waits) if waits else None,
            )
        )
    return tuple(readings)


def series(readings: Mapping[int, Sequence[Reading]], seconds: int) -> tuple[ResourceSeries, ...]:
    """Series over the run from readings by second; seconds without a reading are NaN."""
    first: dict[str, Reading] = {}
    for found in readings.values():
        for reading in found:
            first.setdefault(reading.key, reading)
    result = []
    for key, example in first.items():
        utilisation = np.full(seconds, np.nan)
        waiting = np.full(seconds, np.nan)
        for second, found in readings.items():
            for reading in found:
                if reading.key == key and 0 <= second < seconds:
                    utilisation[second] = reading.utilisation
                    waiting[second] = np.nan if reading.waiting is None else reading.waiting
        result.append(
            ResourceSeries(
                example.component,
                example.name,
                example.kind,
                example.servers,
                utilisation,
                None if example.waiting is None else waiting,
            )
        )
    return tuple(result)
