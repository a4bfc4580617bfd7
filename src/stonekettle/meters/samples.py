"""Everything the meters read in a run, on its clock: a catalogue of series, and their samples.

What is stored is what was read (counters as counters), second by second in small binary chunks;
rates, resources and figures are derived from it, and can be derived again.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from stonekettle.core.types import FloatArray
from stonekettle.meters.exposition import Kind, Labels

CHUNK = np.dtype([("series", "<u4"), ("at", "<f8"), ("value", "<f8")])
"""One sample: the series' number, its time in seconds since the run's start, its value."""
SampleArray = NDArray[np.void]


@dataclass(frozen=True, slots=True)
class Source:
    """One series of one instance of a component."""

    component: str
    instance: str
    metric: str
    labels: Labels
    kind: Kind

    @property
    def bound(self) -> float | None:
        """The upper bound of a histogram's bucket."""
        return next((float(value) for key, value in self.labels if key == "le"), None)

    @property
    def bare_labels(self) -> Labels:
        return tuple(pair for pair in self.labels if pair[0] != "le")


@dataclass(frozen=True)
class Batch:
    """What one round of scrapes read: series never seen before with their numbers, and samples."""

    scrape: int
    new: tuple[tuple[int, Source], ...]
    chunk: bytes


@dataclass(frozen=True)
class Samples:
    """One series over time: increasing ``times`` in seconds since the run's start, ``values``."""

    source: Source
    times: FloatArray
    values: FloatArray


class Catalogue:
    """Gives each source its number in a run."""

    def __init__(self) -> None:
        self._numbers: dict[Source, int] = {}

    def batch(self, scrape: int, read: Iterable[tuple[Source, float, float]]) -> Batch:
        """A batch from (source, time, value)."""
        rows, new = [], []
        for source, at, value in read:
            number = self._numbers.get(source)
            if number is None:
                number = self._numbers[source] = len(self._numbers)
                new.append((number, source))
            rows.append((number, at, value))
        return Batch(scrape, tuple(new), np.array(rows, dtype=CHUNK).tobytes())


@dataclass(frozen=True)
class Readings:
    """All series of a run."""

    series: tuple[Samples, ...] = ()

    @cached_property
    def by_component(self) -> Mapping[str, tuple[Samples, ...]]:
        found: dict[str, list[Samples]] = {}
        for item in self.series:
            found.setdefault(item.source.component, []).append(item)
        return {component: tuple(items) for component, items in found.items()}

    def joined(self, others: Iterable[Samples]) -> Readings:
        """With more series; those of a source that is there already are left out."""
        known = {item.source for item in self.series}
        return Readings((*self.series, *(item for item in others if item.source not in known)))


def unpack(sources: Mapping[int, Source], chunks: Sequence[bytes]) -> Readings:
    """Readings from a run's catalogue and its chunks, in any order."""
    rows = np.frombuffer(b"".join(chunks), dtype=CHUNK)
    if not rows.size:
        return Readings()
    order = np.lexsort((rows["at"], rows["series"]))
    rows = rows[order]
    edges = np.flatnonzero(np.diff(rows["series"])) + 1
    times, values = np.ascontiguousarray(rows["at"]), np.ascontiguousarray(rows["value"])
    starts = np.concatenate(([0], edges))
    found = []
    for number, t, v in zip(rows["series"][starts], np.split(times, edges), np.split(values, edges), strict=True):
        source = sources.get(int(number))
        if source is not None:
            found.append(Samples(source, t, v))
    return Readings(tuple(found))
