"""How busy was each resource of a component, second by second, from what its meters read?

Utilisation is a gauge, or the rate of a counter of busy seconds, over the capacity (utilisation
law, Denning & Buzen 1978, when the counter counts busy time). Instances add up: the busy amounts
of those that answered over their capacities.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np

from stonekettle.core.run_data import ResourceSeries
from stonekettle.core.types import FloatArray
from stonekettle.meters.exposition import Labels
from stonekettle.meters.rates import per_second, total
from stonekettle.meters.recognise import mappings
from stonekettle.meters.samples import Readings, Samples
from stonekettle.plan.system import Component, ResourceMapping, System

_Column = Callable[[Samples], FloatArray]


def series(
    system: System,
    readings: Readings,
    seconds: int,
    more: Mapping[str, Sequence[ResourceMapping]] | None = None,
) -> tuple[ResourceSeries, ...]:
    """Every resource of the system over the run; seconds without a reading are NaN.

    ``more`` holds mappings beside those of the system, by component.
    """
    columns: dict[int, FloatArray] = {}

    def column(samples: Samples) -> FloatArray:
        if id(samples) not in columns:
            columns[id(samples)] = per_second(samples, seconds)
        return columns[id(samples)]

    found = []
    for component in system.components:
        items = readings.by_component.get(component.name, ())
        known = mappings({item.source.metric for item in items}, component)
        for mapping in (*known, *(more or {}).get(component.name, ())):
            resource = _resource(component, mapping, items, column, seconds)
            if resource is not None:
                found.append(resource)
    return tuple(found)


def matches(mapping: ResourceMapping, labels: Labels) -> bool:
    """Whether a series with these labels counts for the mapping."""
    given = dict(labels)
    return all(given.get(key) == value for key, value in mapping.labels.items()) and not any(
        given.get(key) in values for key, values in mapping.without.items()
    )


def _resource(
    component: Component, mapping: ResourceMapping, items: Sequence[Samples], column: _Column, seconds: int
) -> ResourceSeries | None:
    by_instance: dict[str, list[Samples]] = {}
    for item in items:
        by_instance.setdefault(item.source.instance, []).append(item)
    parts = {name: _of_instance(component, mapping, own, column, seconds) for name, own in by_instance.items()}
    told = {name: part for name, part in parts.items() if part is not None}
    if not told:
        return None
    known = list(told.values())
    # Where one of busy and capacity is unknown, the other must not count either.
    busy = total([np.where(np.isfinite(capacity), busy, np.nan) for busy, capacity, _ in known])
    capacity = total([np.where(np.isfinite(busy), capacity, np.nan) for busy, capacity, _ in known])
    waits = [waiting for _, _, waiting in known if waiting is not None]
    utilisation = _share(busy, capacity)
    if not np.isfinite(utilisation).any():
        return None
    return ResourceSeries(
        component.name,
        mapping.name,
        mapping.kind,
        capacity,
        utilisation,
        total(waits) if waits else None,
        {name: _share(busy, capacity) for name, (busy, capacity, _) in told.items()} if len(told) > 1 else {},
    )


def _share(busy: FloatArray, capacity: FloatArray) -> FloatArray:
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.clip(np.where(capacity > 0, busy / capacity, np.nan), 0.0, 1.0)


def _of_instance(
    component: Component, mapping: ResourceMapping, items: Sequence[Samples], column: _Column, seconds: int
) -> tuple[FloatArray, FloatArray, FloatArray | None] | None:
    """Busy amount, capacity and those waiting of one instance; None where it lacks the metric."""

    def summed(metric: str | None) -> FloatArray | None:
        chosen = [column(item) for item in items if item.source.metric == metric]
        return total(chosen) if chosen else None

    metric = mapping.metric.removesuffix("_total")
    own = [item for item in items if item.source.metric == metric and matches(mapping, item.source.labels)]
    capacity: FloatArray | None
    if mapping.capacity_metric is not None:
        capacity = summed(mapping.capacity_metric.removesuffix("_total"))
    else:
        amount = _capacity(component, mapping, own)
        capacity = None if amount is None else np.full(seconds, amount)
    if not own or capacity is None:
        return None
    value = total([column(item) for item in own])
    busy = capacity - value if mapping.direction == "free" else value
    return busy, capacity, summed(mapping.waiting_metric)


def _capacity(component: Component, mapping: ResourceMapping, own: Sequence[Samples]) -> float | None:
    """A capacity that stays the same for the whole run."""
    if mapping.capacity_from == "series":
        fixed = {*mapping.labels, *mapping.without}
        return float(len({tuple(p for p in item.source.labels if p[0] not in fixed) for item in own}))
    if mapping.capacity_from is not None and component.instance_type is not None:
        return getattr(component.instance_type, mapping.capacity_from, None)
    return mapping.capacity
