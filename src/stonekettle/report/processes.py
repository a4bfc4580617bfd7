"""Which processes take a server's processors? What host agents tell of the busiest, at the highest throughput."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from stonekettle.core.levels import Level
from stonekettle.core.types import BoolArray
from stonekettle.meters.rates import per_second
from stonekettle.meters.samples import Readings, Samples

METRICS = ("process_cpu_seconds", "process_cpu_time")
"""Endings of a counter of processor seconds of a process; dots count as underscores."""
NAMES = ("name", "process", "process_executable_name")
LEAST_CORES = 0.02
MOST = 3

Processes = Mapping[str, Sequence[tuple[str, float]]]
"""By component, the names of its busiest processes with the cores that each takes, the busiest first."""


def busiest(readings: Readings, levels: Sequence[Level], seconds: int) -> Processes:
    """Those of every component whose meters tell of processes; processes of one name are taken together."""
    top = max(levels, key=lambda level: level.throughput, default=None)
    if top is None:
        return {}
    used = top.window(seconds).used
    found = {component: _of(items, used) for component, items in readings.by_component.items()}
    return {component: told for component, told in found.items() if told}


def _of(items: Iterable[Samples], used: BoolArray) -> list[tuple[str, float]]:
    cores: dict[str, float] = {}
    known = np.zeros(int(used.sum()), dtype=np.bool_)
    for item in items:
        name = _name(item)
        if name is None:
            continue
        rates = per_second(item, used.size)[used]
        known |= np.isfinite(rates)
        # What is not among the busiest for a while is not told then, and takes next to nothing.
        cores[name] = cores.get(name, 0.0) + float(np.nansum(rates))
    told = [(name, total / max(1, int(known.sum()))) for name, total in cores.items()]
    return sorted((one for one in told if one[1] >= LEAST_CORES), key=lambda one: -one[1])[:MOST]


def _name(item: Samples) -> str | None:
    """The name of the process that a series counts the processor time of; None where it counts something else."""
    metric = item.source.metric.replace(".", "_")
    if item.source.kind != "counter" or not any(
        metric == ending or metric.endswith(f"_{ending}") for ending in METRICS
    ):
        return None
    labels = {key.replace(".", "_"): value for key, value in item.source.labels}
    return next((labels[key] for key in NAMES if labels.get(key)), None)
