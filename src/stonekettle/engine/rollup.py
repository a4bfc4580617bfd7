"""One second of one generator: what leaves it, and how seconds become a run."""

from __future__ import annotations

import math
import struct
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

from stonekettle.core import histogram
from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.load_profile import LoadProfile
from stonekettle.core.run_data import ResourceSeries, RunData, StepInfo
from stonekettle.core.types import IntArray
from stonekettle.engine import records as rec


@dataclass(frozen=True)
class Second:
    """What the loop itself counts in a second, before the records are folded.

    ``users``, ``in_flight`` and ``overdue`` are means over the second; lags in seconds;
    ``cpu`` is the process's share of one core; ``switches`` involuntary context switches;
    ``timings`` what sampled responses told of time spent in components.
    """

    second: int
    users: float
    in_flight: float
    overdue: float
    late_starts: int
    start_gap_s: float
    lag_p99_s: float
    cpu: float
    switches: int
    started: list[int]
    timings: dict[str, dict[str, list[float]]] = field(default_factory=dict)


@dataclass(frozen=True)
class Rollup(Second):
    """A second with its completions: counts and response times per step, errors by kind."""

    completed: list[int] = field(default_factory=list)
    errors: list[int] = field(default_factory=list)
    response_sum_s: list[float] = field(default_factory=list)
    hidden_gap_p99_s: float = 0.0
    bytes_in: int = 0
    bytes_out: int = 0
    failed_parts: int = 0
    error_kinds: dict[str, int] = field(default_factory=dict)

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def fold(second: Second, records: rec.Records, steps: int) -> tuple[Rollup, dict[int, bytes]]:
    """The rollup of a second's records and an encoded histogram per step that succeeded.

    A step with several requests counts once, by its whole; its parts only when they fail.
    """
    gaps = records["hidden_gap_us"]
    bytes_in, bytes_out = int(records["bytes_in"].sum()), int(records["bytes_out"].sum())
    parts = (records["flags"] & rec.PART) > 0
    failed_parts = int(((records["error"] > 0) & parts).sum())
    records = records[~parts]
    wholes = (records["flags"] & rec.WHOLE) > 0
    step = records["step"].astype(np.int64)
    failed = records["error"] > 0
    good = ~failed
    total_us = records["total_us"].astype(np.int64)
    histograms = {
        int(s): histogram.encode(histogram.counts_of(total_us[good & (step == s)])) for s in np.unique(step[good])
    }
    kinds = Counter(
        rec.error_name(int(e), int(s)) for e, s in zip(records["error"][failed], records["status"][failed], strict=True)
    )
    rollup = Rollup(
        **asdict(second),
        completed=np.bincount(step, minlength=steps).tolist(),
        errors=np.bincount(step[failed], minlength=steps).tolist(),
        response_sum_s=(np.bincount(step[good], total_us[good], steps) / 1e6).tolist(),
        hidden_gap_p99_s=float(np.percentile(gaps, 99)) / 1e6 if gaps.size else 0.0,
        bytes_in=bytes_in,
        bytes_out=bytes_out,
        # A main request that failed is counted with its step.
        failed_parts=failed_parts - int((failed & wholes).sum()),
        error_kinds=dict(kinds),
    )
    return rollup, histograms


_ENTRY = struct.Struct("<HI")


def pack_histograms(histograms: Mapping[int, bytes]) -> bytes:
    """Encoded histograms by step as one blob."""
    return b"".join(_ENTRY.pack(step, len(data)) + data for step, data in histograms.items())


def unpack_histograms(blob: bytes) -> dict[int, bytes]:
    """The inverse of :func:`pack_histograms`."""
    found, offset = {}, 0
    while offset < len(blob):
        step, size = _ENTRY.unpack_from(blob, offset)
        offset += _ENTRY.size
        found[step] = blob[offset : offset + size]
        offset += size
    return found


@dataclass(frozen=True)
class StoredSecond:
    """A rollup as it is read back, with its generator and its histograms by step."""

    generator: str
    rollup: Mapping[str, Any]
    histograms: Mapping[int, bytes]


def assemble(
    steps: Sequence[StepInfo],
    profile: LoadProfile,
    stored: Sequence[StoredSecond],
    resources: Sequence[ResourceSeries] = (),
    seconds: int | None = None,
) -> RunData:
    """Run data from the rollups of all generators.

    Users, requests and arrivals add up over generators; of lateness and cpu the worst counts.
    Seconds after the last rollup are not part of the run.
    """
    n = seconds if seconds is not None else 1 + max((s.rollup["second"] for s in stored), default=-1)
    shape = (n, len(steps))
    means = {name: np.full(n, np.nan) for name in ("users", "in_flight", "overdue", "late_starts")}
    worst = {name: np.full(n, np.nan) for name in ("start_gap_s", "cpu")}
    sums = {name: np.zeros(shape) for name in ("started", "completed", "errors", "response_sum_s")}
    kinds: dict[str, IntArray] = {}
    entries: list[tuple[int, int, bytes]] = []
    for item in stored:
        t, rollup = int(item.rollup["second"]), item.rollup
        if t >= n:
            continue
        for name, series in means.items():
            series[t] = rollup[name] + (0.0 if math.isnan(series[t]) else series[t])
        for name, series in worst.items():
            series[t] = rollup[name] if math.isnan(series[t]) else max(series[t], rollup[name])
        for name, table in sums.items():
            table[t] += rollup[name]
        for kind, count in rollup["error_kinds"].items():
            kinds.setdefault(kind, np.zeros(n, dtype=np.int64))[t] += count
        entries.extend((t, step, data) for step, data in item.histograms.items())
    return RunData(
        steps=tuple(steps),
        planned_users=profile.users_over(np.arange(n, dtype=np.float64)),
        users=means["users"],
        in_flight=means["in_flight"],
        overdue=means["overdue"],
        late_starts=means["late_starts"],
        start_gap_s=worst["start_gap_s"],
        generator_cpu=worst["cpu"],
        started=sums["started"].astype(np.int64),
        completed=sums["completed"].astype(np.int64),
        errors=sums["errors"].astype(np.int64),
        response_sum_s=sums["response_sum_s"],
        histograms=HistogramSeries.from_entries(entries),
        resources=tuple(resources),
        error_kinds=kinds,
    )
