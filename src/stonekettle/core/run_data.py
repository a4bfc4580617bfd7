"""What was measured in one run: the arrays every analysis starts from.

All series have one entry per second of the run, on the conductor's clock; NaN marks a second
for which nothing was measured, never zero.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.types import CoreInputError, FloatArray, IntArray


@dataclass(frozen=True)
class StepInfo:
    """A step of a journey with the mean (s) and variation of the think time that follows it."""

    journey: str
    name: str
    think_s: float
    think_variation: float = 1.0


HARDWARE = ("cpu", "disk", "network")
"""Kinds that do work themselves: their utilisation limits throughput."""
SOFTWARE = ("pool", "threads")
"""Kinds that only let so many requests in."""


@dataclass(frozen=True)
class ResourceSeries:
    """One finite resource of a component, averaged over its instances.

    ``servers`` is the number of servers all instances have together (cores, pool slots);
    ``utilisation`` lies in 0..1; ``waiting`` counts those queueing for it, or is None.
    """

    component: str
    name: str
    kind: str
    servers: float
    utilisation: FloatArray
    waiting: FloatArray | None = None

    @property
    def key(self) -> str:
        return f"{self.component}.{self.name}"

    @property
    def is_pool(self) -> bool:
        return self.kind in SOFTWARE


@dataclass(frozen=True)
class RunData:
    """A run's measurements. Shapes: (n,) per second, (n, steps) where a step is named.

    ``completed`` counts every finished request, ``errors`` those among them that failed;
    ``response_sum_s`` and ``histograms`` hold the response times of the others, since fast
    refusals would flatter them. ``overdue`` is the mean number of users due to start a request and
    not yet started; ``late_starts`` how many started over 5 ms late; ``start_gap_s`` the longest
    gap between two starts; ``generator_cpu`` the busiest generator's share of its core.
    """

    steps: tuple[StepInfo, ...]
    planned_users: FloatArray
    users: FloatArray
    in_flight: FloatArray
    overdue: FloatArray
    late_starts: FloatArray
    start_gap_s: FloatArray
    generator_cpu: FloatArray
    started: IntArray
    completed: IntArray
    errors: IntArray
    response_sum_s: FloatArray
    histograms: HistogramSeries
    resources: tuple[ResourceSeries, ...] = ()
    error_kinds: dict[str, IntArray] = field(default_factory=dict)

    def __post_init__(self) -> None:
        n = self.seconds
        for name in ("users", "in_flight", "overdue", "late_starts", "start_gap_s", "generator_cpu"):
            if getattr(self, name).shape != (n,):
                raise CoreInputError(f"{name} must have one entry for each of the {n} seconds")
        for name in ("started", "completed", "errors", "response_sum_s"):
            if getattr(self, name).shape != (n, len(self.steps)):
                raise CoreInputError(f"{name} must have shape ({n}, {len(self.steps)})")
        for resource in self.resources:
            if resource.utilisation.shape != (n,):
                raise CoreInputError(f"utilisation of {resource.key} must have {n} entries")

    @property
    def seconds(self) -> int:
        return int(self.planned_users.shape[0])

    @cached_property
    def succeeded(self) -> IntArray:
        """Requests completed without error in each second over all steps, shape (n,)."""
        return np.asarray((self.completed - self.errors).sum(axis=1), dtype=np.int64)
