"""What was measured in one run: the arrays every analysis starts from.

All series have one entry per second of the run, on the conductor's clock; NaN marks a second
for which nothing was measured, never zero.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.load import LoadKind
from stonekettle.core.types import BoolArray, CoreInputError, FloatArray, IntArray


@dataclass(frozen=True)
class Cell:
    """A step of a journey as one group does it, with the mean (s) and variation of the think time that follows it.
    Everything about requests is counted by cell; a split is a choice of cells."""

    journey: str
    step: str
    think_s: float
    think_variation: float = 1.0
    group: str = ""


HARDWARE = ("cpu", "disk", "network")
"""Kinds that do work themselves: their utilisation limits throughput."""
SOFTWARE = ("pool", "threads")
"""Kinds that only let so many requests in."""


@dataclass(frozen=True)
class ResourceSeries:
    """One finite resource of a component, averaged over its instances.

    ``capacity`` is how many servers all instances have together in each second (cores, pool slots), shape (n,), for
    instances come and go; ``utilisation`` lies in 0..1; ``waiting`` counts those queueing for it, or is None.
    ``instances`` is the utilisation of each, by its name, where there are several.
    """

    component: str
    name: str
    kind: str
    capacity: FloatArray
    utilisation: FloatArray
    waiting: FloatArray | None = None
    instances: Mapping[str, FloatArray] = field(default_factory=dict)

    @property
    def servers(self) -> float:
        """The usual number of servers."""
        known = self.capacity[np.isfinite(self.capacity)]
        return float(np.median(known)) if known.size else float("nan")

    @property
    def key(self) -> str:
        return f"{self.component}.{self.name}"

    @property
    def is_pool(self) -> bool:
        return self.kind in SOFTWARE


@dataclass(frozen=True)
class Reasons:
    """Why generators may have been late, each series of shape (n,), the worst generator's: ``cpu`` its
    share of a core, ``run_queue`` the share of time it waited for a processor, ``stolen`` the share
    of the machine's processors the host gave to others, ``switches`` involuntary ones per second."""

    cpu: FloatArray
    run_queue: FloatArray
    stolen: FloatArray
    switches: FloatArray

    @classmethod
    def none(cls, seconds: int, cpu: float = 0.0) -> Reasons:
        """Nothing but a steady share of the core."""
        return cls(np.full(seconds, cpu), *(np.zeros(seconds) for _ in range(3)))


@dataclass(frozen=True)
class Times:
    """Response times of successes: how many, their sum and that of their blind times (s), each of shape
    (n, cells), and the histograms of their upper and lower ends."""

    count: IntArray
    sum_s: FloatArray
    blind_sum_s: FloatArray
    histograms: HistogramSeries
    low_histograms: HistogramSeries


@dataclass(frozen=True)
class Arrivals:
    """Of groups that arrive, each of shape (n,): arrivals per second ``ordered``, ``started``, and those
    ``turned_away`` since as many as may be were there already."""

    ordered: FloatArray
    started: FloatArray
    turned_away: FloatArray
    alone: bool = False
    """Whether nobody is counted in users beside them."""


@dataclass(frozen=True)
class RunData:
    """A run's measurements. Shapes: (n,) per second, (n, cells) where requests are counted.

    A step is what a person waits for; ``requests`` counts its exchanges on the wire, one or many. ``completed`` counts
    every finished step, ``errors`` those among them that failed;
    ``response_sum_s`` and ``histograms`` hold the response times of the others, since fast
    refusals would flatter them. Each true response time lies between what was recorded and that less
    its blind time (the generator had not looked for so long): ``low_histograms`` and ``blind_sum_s``
    are of the lower ends. ``overdue`` is the mean number of users due to start a request, or answered,
    that the generator had not got round to; ``blind`` of those whose answer may have been there
    unseen. ``planned_users`` are the users ordered, where people arrive those present instead.
    ``start_gap_s`` is the longest gap between two starts; ``stalls`` (shape (k, 2), seconds
    since the run's start) are the stretches in which a generator stood still. Seconds ``set_aside`` (shape (n,)) were
    measured, but people say that they tell nothing of the system: no finding rests on them.
    """

    cells: tuple[Cell, ...]
    planned_users: FloatArray
    users: FloatArray
    in_flight: FloatArray
    overdue: FloatArray
    blind: FloatArray
    start_gap_s: FloatArray
    reasons: Reasons
    stalls: FloatArray
    requests: IntArray
    started: IntArray
    completed: IntArray
    errors: IntArray
    response_sum_s: FloatArray
    blind_sum_s: FloatArray
    histograms: HistogramSeries
    low_histograms: HistogramSeries
    resources: tuple[ResourceSeries, ...] = ()
    error_kinds: dict[str, IntArray] = field(default_factory=dict)
    arrivals: Arrivals | None = None
    journeys: FloatArray | None = None
    """How many were done to their end in each second, shape (n,); None where nothing told it."""
    received_bytes: int = 0
    sent_bytes: int = 0
    """Over the whole run, headers and bodies; 0 where nothing told them."""
    kept: Times | None = None
    """Response times beside the stalls of generators, once they have been cut out (:mod:`stalls`)."""
    set_aside: BoolArray | None = None

    def __post_init__(self) -> None:
        n = self.seconds
        for name in ("users", "in_flight", "overdue", "blind", "start_gap_s"):
            if getattr(self, name).shape != (n,):
                raise CoreInputError(f"{name} must have one entry for each of the {n} seconds")
        for name in ("requests", "started", "completed", "errors", "response_sum_s", "blind_sum_s"):
            if getattr(self, name).shape != (n, len(self.cells)):
                raise CoreInputError(f"{name} must have shape ({n}, {len(self.cells)})")
        if self.set_aside is not None and self.set_aside.shape != (n,):
            raise CoreInputError(f"set_aside must have one entry for each of the {n} seconds")
        for resource in self.resources:
            if resource.utilisation.shape != (n,):
                raise CoreInputError(f"utilisation of {resource.key} must have {n} entries")

    @property
    def seconds(self) -> int:
        return int(self.planned_users.shape[0])

    @cached_property
    def counting(self) -> BoolArray:
        """The seconds that findings may rest on, shape (n,)."""
        return np.ones(self.seconds, dtype=np.bool_) if self.set_aside is None else ~self.set_aside

    @property
    def load_kind(self) -> LoadKind:
        return "arrivals" if self.arrivals is not None and self.arrivals.alone else "users"

    @cached_property
    def cells_of_steps(self) -> tuple[tuple[int, ...], ...]:
        """The cells of each step, the steps in the order in which the cells name them first."""
        found: dict[tuple[str, str], list[int]] = {}
        for number, cell in enumerate(self.cells):
            found.setdefault((cell.journey, cell.step), []).append(number)
        return tuple(tuple(numbers) for numbers in found.values())

    def cells_of(self, steps: Sequence[int] | None) -> list[int] | None:
        """The cells of these steps, whoever does them; None stays None and means all."""
        return None if steps is None else [cell for step in steps for cell in self.cells_of_steps[step]]

    @cached_property
    def times(self) -> Times:
        """All response times."""
        good = np.asarray(self.completed - self.errors, dtype=np.int64)
        return Times(good, self.response_sum_s, self.blind_sum_s, self.histograms, self.low_histograms)

    @cached_property
    def stalled_s(self) -> FloatArray:
        """For how much of each second a generator stood still, at most all of it, shape (n,)."""
        edges = np.arange(self.seconds + 1, dtype=np.float64)
        before = _time_since(self.stalls[:, 0], edges) - _time_since(self.stalls[:, 1], edges)
        return np.minimum(np.diff(before), 1.0)

    @cached_property
    def succeeded(self) -> IntArray:
        """Steps completed without error in each second over all cells, shape (n,)."""
        return np.asarray((self.completed - self.errors).sum(axis=1), dtype=np.int64)


def _time_since(moments: FloatArray, edges: FloatArray) -> FloatArray:
    """The sum over ``moments`` (shape (k,)) of the time passed since each, at every edge."""
    ordered = np.sort(moments)
    sums = np.concatenate([[0.0], np.cumsum(ordered)])
    passed = np.searchsorted(ordered, edges)
    return np.asarray(passed * edges - sums[passed], dtype=np.float64)
