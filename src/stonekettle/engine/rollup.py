"""One second of one generator: what leaves it, and how seconds become a run."""

from __future__ import annotations

import math
import struct
import zlib
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from stonekettle.core import histogram
from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.orders import Ordered
from stonekettle.core.run_data import Arrivals, Cell, Reasons, ResourceSeries, RunData
from stonekettle.core.types import FloatArray, IntArray
from stonekettle.engine import records as rec

LOW = 0x8000
"""Added to a cell's number in a second's histograms: that of the lower ends, total less blind, kept
only where it differs from that of the totals."""


@dataclass(frozen=True)
class Second:
    """What the loop itself counts in a second, before the records are folded.

    ``users``, ``in_flight`` and ``overdue`` are means over the second; lags in seconds;
    ``present`` users, those who ``arrived`` and were ``turned_away``, and ``journeys`` that were done to their end are
    told for each group; ``told`` is for the
    lead (:meth:`population.Population.told`). ``stalls`` are stretches (s since the run's start) in which the loop
    did not run; ``cpu``,
    ``run_queue``, ``stolen`` and ``switches`` are :class:`reasons.Figures`; ``timings`` what sampled
    responses told of time spent in components.
    """

    second: int
    users: float
    in_flight: float
    overdue: float
    start_gap_s: float
    lag_p99_s: float
    cpu: float
    run_queue: float
    stolen: float
    switches: float
    started: list[int]
    present: list[float] = field(default_factory=list)
    arrived: list[int] = field(default_factory=list)
    turned_away: list[int] = field(default_factory=list)
    journeys: list[int] = field(default_factory=list)
    told: dict[str, Any] = field(default_factory=dict)
    stalls: list[tuple[float, float]] = field(default_factory=list)
    timings: dict[str, dict[str, list[float]]] = field(default_factory=dict)


@dataclass(frozen=True)
class Rollup(Second):
    """A second with its completions: counts and response times of steps per cell, errors by kind; ``requests`` are
    the exchanges on the wire.

    ``handled`` and ``blind`` are mean numbers of users: those whose request was handed over and not
    sent, or seen answered and not taken up; and those whose answer may have been there unseen.
    ``blind_sum_s`` adds up blind times of successes per cell, ``received`` the bytes of their answers and of what
    accompanied them.
    """

    requests: list[int] = field(default_factory=list)
    completed: list[int] = field(default_factory=list)
    errors: list[int] = field(default_factory=list)
    response_sum_s: list[float] = field(default_factory=list)
    blind_sum_s: list[float] = field(default_factory=list)
    received: list[int] = field(default_factory=list)
    handled: float = 0.0
    blind: float = 0.0
    hidden_gap_p99_s: float = 0.0
    bytes_in: int = 0
    bytes_out: int = 0
    failed_parts: int = 0
    error_kinds: dict[str, int] = field(default_factory=dict)

    def as_dict(self) -> dict[str, Any]:
        return dict(vars(self))


def fold(second: Second, records: rec.Records, numbers: IntArray) -> tuple[Rollup, dict[int, bytes]]:
    """The rollup of a second's records and encoded histograms by cell (see :data:`LOW`), whose ``numbers`` are
    :func:`script.cell_numbers`.

    A step with several requests counts once, by its whole; its parts only when they fail.
    """
    gaps = records["hidden_gap_us"]
    bytes_in, bytes_out = int(records["bytes_in"].sum()), int(records["bytes_out"].sum())
    parts = (records["flags"] & rec.PART) > 0
    failed_parts = int(((records["error"] > 0) & parts).sum())
    on_wire = records[(records["flags"] & rec.WHOLE) == 0]
    count = int(numbers.max(initial=-1)) + 1
    received = np.bincount(rec.cells_in(on_wire, numbers), on_wire["bytes_in"], count)
    records = records[~parts]
    wholes = (records["flags"] & rec.WHOLE) > 0
    cells, cell = count, rec.cells_in(records, numbers)
    failed = records["error"] > 0
    good = ~failed
    total_us = records["total_us"].astype(np.int64)
    blind_us = np.minimum(records["blind_us"].astype(np.int64), total_us)
    histograms = {}
    for c in map(int, np.unique(cell[good])):
        chosen = good & (cell == c)
        histograms[c] = histogram.encode(histogram.counts_of(total_us[chosen]))
        if blind_us[chosen].any():
            low = histogram.encode(histogram.counts_of(total_us[chosen] - blind_us[chosen]))
            if low != histograms[c]:
                histograms[c | LOW] = low
    kinds = Counter(
        rec.error_name(int(e), int(s)) for e, s in zip(records["error"][failed], records["status"][failed], strict=True)
    )
    rollup = Rollup(
        **vars(second),
        requests=np.bincount(rec.cells_in(on_wire, numbers), minlength=cells).tolist(),
        completed=np.bincount(cell, minlength=cells).tolist(),
        errors=np.bincount(cell[failed], minlength=cells).tolist(),
        response_sum_s=(np.bincount(cell[good], total_us[good], cells) / 1e6).tolist(),
        blind_sum_s=(np.bincount(cell[good], blind_us[good], cells) / 1e6).tolist(),
        received=received.astype(np.int64).tolist(),
        handled=float(records["hidden_gap_us"].sum()) / 1e6,
        blind=float(blind_us.sum()) / 1e6,
        hidden_gap_p99_s=float(np.percentile(gaps, 99)) / 1e6 if gaps.size else 0.0,
        bytes_in=bytes_in,
        bytes_out=bytes_out,
        # A main request that failed is counted with its step.
        failed_parts=failed_parts - int((failed & wholes).sum()),
        error_kinds=dict(kinds),
    )
    return rollup, histograms


_ENTRY = struct.Struct("<HI")
DEFLATED = b"\x78\x9c"
"""What a deflated blob begins with: no number of a cell."""


def pack_histograms(histograms: Mapping[int, bytes]) -> bytes:
    """Encoded histograms by cell as one blob, deflated together."""
    return zlib.compress(b"".join(_ENTRY.pack(cell, len(data)) + data for cell, data in histograms.items()), 6)


def unpack_histograms(blob: bytes) -> dict[int, bytes]:
    """The inverse of :func:`pack_histograms`. Older runs deflated each histogram by itself."""
    together = blob[:2] == DEFLATED
    blob = zlib.decompress(blob) if together else blob
    found, offset = {}, 0
    while offset < len(blob):
        cell, size = _ENTRY.unpack_from(blob, offset)
        offset += _ENTRY.size
        data = blob[offset : offset + size]
        found[cell] = data if together else zlib.decompress(data)
        offset += size
    return found


@dataclass(frozen=True)
class StoredSecond:
    """A rollup as it is read back, with its generator and its histograms by cell."""

    generator: str
    rollup: Mapping[str, Any]
    histograms: Mapping[int, bytes]


def assemble(
    cells: Sequence[Cell],
    ordered: Ordered,
    stored: Sequence[StoredSecond],
    resources: Sequence[ResourceSeries] = (),
    seconds: int | None = None,
    groups: Sequence[str] = (),
) -> RunData:
    """Run data from the rollups of all generators, which tell figures of ``groups`` in this order.

    Users, requests and arrivals add up over generators; of the reasons for lateness the worst counts. Nobody
    started for no longer than the shortest of their gaps.
    Seconds after the last rollup are not part of the run. What older runs did not record is 0.
    """
    n = seconds if seconds is not None else 1 + max((s.rollup["second"] for s in stored), default=-1)
    shape = (n, len(cells))
    means = {name: np.full(n, np.nan) for name in ("users", "in_flight", "overdue", "handled", "blind")}
    worst = {name: np.full(n, np.nan) for name in ("cpu", "run_queue", "stolen", "switches")}
    gaps = np.full(n, np.inf)
    journeys = np.full(n, np.nan)
    counted = ("requests", "started", "completed", "errors", "response_sum_s", "blind_sum_s")
    sums = {name: np.zeros(shape) for name in counted}
    kinds: dict[str, IntArray] = {}
    entries: list[tuple[int, int, bytes]] = []
    low_entries: list[tuple[int, int, bytes]] = []
    stalls: list[tuple[float, float]] = []
    received = sent = 0
    for item in stored:
        t, rollup = int(item.rollup["second"]), item.rollup
        if t >= n:
            continue
        for name, series in means.items():
            series[t] = rollup.get(name, 0.0) + (0.0 if math.isnan(series[t]) else series[t])
        for name, series in worst.items():
            value = rollup.get(name, 0.0)
            series[t] = value if math.isnan(series[t]) else max(series[t], value)
        if any(rollup["started"]):
            gaps[t] = min(gaps[t], rollup.get("start_gap_s", 0.0))
        for name, table in sums.items():
            # Older runs counted steps only.
            table[t] += rollup.get(name, rollup["completed"] if name == "requests" else 0.0)
        if rollup.get("journeys"):
            journeys[t] = sum(rollup["journeys"]) + (0.0 if math.isnan(journeys[t]) else journeys[t])
        received += rollup.get("bytes_in", 0)
        sent += rollup.get("bytes_out", 0)
        for kind, count in rollup["error_kinds"].items():
            kinds.setdefault(kind, np.zeros(n, dtype=np.int64))[t] += count
        stalls += [(begun, ended) for begun, ended in rollup.get("stalls", ())]
        for key, data in item.histograms.items():
            if key < LOW:
                entries.append((t, key, data))
                low_entries.append((t, key, item.histograms.get(key | LOW, data)))
    visitors, arrivals = _arrivals(ordered, stored, n, [i for i, name in enumerate(groups) if name in ordered.arrivals])
    return RunData(
        cells=tuple(cells),
        planned_users=ordered.mean_users(n) + visitors,
        arrivals=arrivals,
        journeys=journeys if np.isfinite(journeys).any() else None,
        users=means["users"],
        in_flight=means["in_flight"] - means["handled"],
        overdue=means["overdue"] + means["handled"],
        blind=means["blind"],
        start_gap_s=np.where(np.isfinite(gaps), gaps, 0.0),
        reasons=Reasons(worst["cpu"], worst["run_queue"], worst["stolen"], worst["switches"]),
        stalls=np.array(sorted(stalls), dtype=np.float64).reshape(-1, 2),
        requests=sums["requests"].astype(np.int64),
        started=sums["started"].astype(np.int64),
        completed=sums["completed"].astype(np.int64),
        errors=sums["errors"].astype(np.int64),
        response_sum_s=sums["response_sum_s"],
        blind_sum_s=sums["blind_sum_s"],
        histograms=HistogramSeries.from_entries(entries),
        low_histograms=HistogramSeries.from_entries(low_entries),
        resources=tuple(resources),
        error_kinds=kinds,
        received_bytes=received,
        sent_bytes=sent,
    )


def _arrivals(
    ordered: Ordered, stored: Sequence[StoredSecond], n: int, arriving: Sequence[int]
) -> tuple[FloatArray, Arrivals | None]:
    """People present of the groups that arrive, shape (n,), and how they came."""
    present, started, away = np.zeros(n), np.zeros(n), np.zeros(n)
    if not arriving:
        return present, None
    for item in stored:
        t = int(item.rollup["second"])
        if t < n:
            for series, name in ((present, "present"), (started, "arrived"), (away, "turned_away")):
                series[t] += sum(item.rollup[name][i] for i in arriving)
    return present, Arrivals(ordered.mean_arrivals(n), started, away, alone=ordered.load_kind == "arrivals")
