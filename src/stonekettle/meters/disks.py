"""What disks did, reading and writing apart: how many operations, how long each took, how large each was.

Told by counters of operations, of the time they took and of their bytes, or by histograms of an operation's time and
size. Reading and writing are in metrics of their own, as a host agent tells them, or apart by a label.
"""

from __future__ import annotations

import math
import re
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal, NamedTuple, get_args

import numpy as np

from stonekettle.core.types import FloatArray
from stonekettle.meters.counts import NOBODY
from stonekettle.meters.rates import per_second, total
from stonekettle.meters.samples import Readings, Samples, Source

Op = Literal["read", "write"]
Part = Literal["operations", "seconds", "bytes"]

_OWN: tuple[tuple[Op, Part, str], ...] = (
    ("read", "operations", r"disk_reads(_completed)?"),
    ("write", "operations", r"disk_writes(_completed)?"),
    ("read", "seconds", r"disk_read(_time)?_seconds"),
    ("write", "seconds", r"disk_write(_time)?_seconds"),
    ("read", "bytes", r"disk_read_bytes"),
    ("write", "bytes", r"disk_(written|write)_bytes"),
)
_LABELLED: tuple[tuple[Part, str], ...] = (
    ("operations", r"disk_(operations|latency_seconds_count)"),
    ("seconds", r"disk_(operation_time(_seconds)?|latency_seconds_sum)"),
    ("bytes", r"disk_(io(_bytes)?|block_bytes_sum)"),
)
_LABELS = ("op", "operation", "direction")


@dataclass(frozen=True)
class DiskMeans:
    """Over a stretch: operations a second, how long each took (s), how large each was (bytes); None: not told."""

    rate: float | None
    took_s: float | None
    size_bytes: float | None


@dataclass(frozen=True)
class DiskWork:
    """What a component's disks did by reading or by writing in each second: ``operations`` (1/s), the ``busy_s`` that
    they took (s/s), ``moved_bytes`` (bytes/s), each of shape (seconds,); NaN where nothing is known."""

    component: str
    op: Op
    operations: FloatArray
    busy_s: FloatArray
    moved_bytes: FloatArray

    def means(self, begin: int, end: int) -> DiskMeans:
        """Over the seconds from ``begin`` to before ``end``."""
        operations = self.operations[begin:end]
        known = operations[np.isfinite(operations)]
        rate = float(known.mean()) if known.size else None
        return DiskMeans(rate, self._each(self.busy_s, begin, end), self._each(self.moved_bytes, begin, end))

    def _each(self, amount: FloatArray, begin: int, end: int) -> float | None:
        operations, values = self.operations[begin:end], amount[begin:end]
        both = np.isfinite(operations) & np.isfinite(values)
        count = float(operations[both].sum())
        return float(values[both].sum()) / count if count > 0 else None


def work(readings: Readings, seconds: int) -> Iterator[DiskWork]:
    """Of every component whose disk operations are told, reading before writing."""
    for component, items in sorted(readings.by_component.items()):
        if component == NOBODY:
            continue
        found: dict[_Told, list[Samples]] = defaultdict(list)
        for item in items:
            if item.source.kind == "counter" and (told := _told(item.source)) is not None:
                found[told].append(item)
        for op in get_args(Op):
            # A host and what runs on it may tell of the same disk: one of them is heard, not their sum.
            whose = sorted(told.metrics for told in found if (told.op, told.part) == (op, "operations"))
            if whose:
                parts = ([*found.get(_Told(op, part, whose[0]), ())] for part in get_args(Part))
                yield DiskWork(component, op, *(_summed(part, seconds) for part in parts))


class _Told(NamedTuple):
    """What a series tells of a disk, and of which family of metrics it is."""

    op: Op
    part: Part
    metrics: str


def _told(source: Source) -> _Told | None:
    name = source.metric.replace(".", "_").removesuffix("_total")
    for op, part, pattern in _OWN:
        if match := re.search(rf"^(.*_)?{pattern}$", name):
            return _Told(op, part, f"{match[1] or ''}by name")
    labels = dict(source.labels)
    label = next((labels[one] for one in _LABELS if one in labels), None)
    for op in get_args(Op):
        for part, pattern in _LABELLED if label == op else ():
            if match := re.search(rf"^(.*_)?{pattern}$", name):
                return _Told(op, part, f"{match[1] or ''}by label")
    return None


def _summed(items: list[Samples], seconds: int) -> FloatArray:
    if not items:
        return np.full(seconds, math.nan)
    return total([per_second(item, seconds) for item in items])
