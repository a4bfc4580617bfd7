"""Run seconds: what the generators told of a second as one, rows of 10 s and 60 s made of them, and the figures
that are read most, ready in a row of numbers.

Putting together is addition (and the worst of what is a worst), in any order: a second that comes late is
added to what is there already.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from stonekettle.core import histogram
from stonekettle.core.histogram import percentiles_s
from stonekettle.core.run_data import Cell
from stonekettle.core.types import FloatArray
from stonekettle.engine.rollup import LOW

WIDTHS = (1, 10, 60)
"""How many seconds a row may stand for."""
WIDER = {1: 10, 10: 60}

_MEANS = ("users", "in_flight", "overdue", "handled", "blind")
_WORST = ("lag_p99_s", "cpu", "run_queue", "stolen", "switches", "hidden_gap_p99_s")
_SUMS = ("bytes_in", "bytes_out", "failed_parts")
_LISTS = (
    "started",
    "completed",
    "errors",
    "response_sum_s",
    "blind_sum_s",
    "received",
    "arrived",
    "turned_away",
    "journeys",
)
_MEAN_LISTS = ("present",)


@dataclass(frozen=True)
class Told:
    """A rollup (see :class:`rollup.Rollup`) of one generator or of all of them, and its histograms by cell."""

    rollup: Mapping[str, Any]
    histograms: Mapping[int, bytes]

    @property
    def second(self) -> int:
        return int(self.rollup["second"])


def together(parts: Sequence[Told]) -> Told:
    """One second as all these generators told it: users and requests add up, of lateness the worst counts."""
    return _joined(parts, parts[0].second, 1)


def over_time(parts: Sequence[Told], start: int) -> Told:
    """Successive rows as one that begins at ``start``: counts add up, users are means over the seconds there are."""
    return _joined(parts, start, sum(part.rollup.get("seconds", 1) for part in parts))


def _joined(parts: Sequence[Told], second: int, seconds: int) -> Told:
    rollups = [part.rollup for part in parts]
    # Within a second the users of all generators add up; over time they are weighed by their seconds.
    weights = [1.0 if seconds == 1 else rollup.get("seconds", 1) / seconds for rollup in rollups]
    found: dict[str, Any] = {"second": second, "seconds": seconds}
    for name in _MEANS:
        found[name] = sum(w * r.get(name, 0.0) for w, r in zip(weights, rollups, strict=True))
    for name in _MEAN_LISTS:
        found[name] = _added([[w * x for x in r.get(name, ())] for w, r in zip(weights, rollups, strict=True)])
    for name in _WORST:
        found[name] = max(r.get(name, 0.0) for r in rollups)
    # Nobody started at all for no longer than the shortest of several generators' gaps.
    gaps = [r.get("start_gap_s", 0.0) for r in rollups if any(r["started"])]
    found["start_gap_s"] = (min if seconds == 1 else max)(gaps, default=0.0)
    for name in _SUMS:
        found[name] = sum(r.get(name, 0) for r in rollups)
    for name in _LISTS:
        found[name] = _added([r.get(name, ()) for r in rollups])
    # Older runs counted steps only.
    found["requests"] = _added([r.get("requests", r["completed"]) for r in rollups])
    found["error_kinds"] = _counted([r.get("error_kinds", {}) for r in rollups])
    found["stalls"] = sorted(list(stall) for r in rollups for stall in r.get("stalls", ()))
    found["timings"] = _timings([r.get("timings", {}) for r in rollups])
    return Told(found, _histograms(parts))


def _added(rows: Sequence[Sequence[float]]) -> list[float]:
    """Sums by place; what older runs did not record is 0."""
    if len(rows) == 1:
        return list(rows[0])
    length = max(map(len, rows))
    return [sum(row[i] for row in rows if i < len(row)) for i in range(length)]


def _counted(counts: Sequence[Mapping[str, int]]) -> dict[str, int]:
    found: dict[str, int] = {}
    for one in counts:
        for kind, count in one.items():
            found[kind] = found.get(kind, 0) + count
    return found


def _timings(parts: Sequence[Mapping[str, Mapping[str, Sequence[float]]]]) -> dict[str, dict[str, list[float]]]:
    found: dict[str, dict[str, list[float]]] = {}
    for part in parts:
        for name, steps in part.items():
            for step, (count, total) in steps.items():
                entry = found.setdefault(name, {}).setdefault(step, [0, 0.0])
                entry[0] += count
                entry[1] += total
    return found


def _histograms(parts: Sequence[Told]) -> dict[int, bytes]:
    """Their histograms added up. A lower one that stands for itself nowhere is that of the totals everywhere."""
    if len(parts) == 1:
        return dict(parts[0].histograms)
    wanted: dict[int, list[bytes]] = {}
    for part in parts:
        for key, data in part.histograms.items():
            if key < LOW:
                wanted.setdefault(key, []).append(data)
                wanted.setdefault(key | LOW, []).append(part.histograms.get(key | LOW, data))
    several = [key for key, data in wanted.items() if len(data) > 1]
    row = [place for place, key in enumerate(several) for _ in wanted[key]]
    sums = histogram.decode_rows([data for key in several for data in wanted[key]], row, len(several))
    found = {key: data[0] for key, data in wanted.items()}
    found |= {key: histogram.encode(counts) for key, counts in zip(several, sums.astype(np.int64), strict=True)}
    return {key: data for key, data in found.items() if key < LOW or data != found[key ^ LOW]}


LOAD = ("seconds", "ordered", "users", "in_flight", "overdue", "blind")
"""Figures of the whole load; ``seconds`` is how many the row stands for so far."""
GROUP = ("ordered", "present")
"""Of each group: users or arrivals per second ordered, and people present."""
REQUESTS = ("started", "completed", "errors", "response_sum_s", "p50", "p95", "p99")
"""Of each selection of cells: counts, the sum of response times, and percentiles (s) of what succeeded."""


ANYWHERE = "anywhere"


@dataclass(frozen=True)
class Selection:
    """Cells that are read together: all, those of a group, of a journey, of a step, or of a region."""

    id: str
    name: str
    cells: tuple[int, ...]


@dataclass(frozen=True)
class Layout:
    """Where each figure stands in a row: those of the load, of each group, of each selection."""

    groups: tuple[str, ...]
    cells: tuple[Cell, ...]
    regions: tuple[str, ...]
    """Where each group comes from; empty is anywhere."""

    @cached_property
    def selections(self) -> tuple[Selection, ...]:
        """All, groups and journeys where there are several, each step, and regions where there are several: these
        last, since rows that were written before they were told apart end there."""
        numbered = list(enumerate(self.cells))
        found = [Selection("all", "All steps", tuple(number for number, _ in numbered))]
        journeys = list(dict.fromkeys(cell.journey for cell in self.cells))
        if len(self.groups) > 1:
            found += [
                Selection(f"group:{i}", name, tuple(n for n, cell in numbered if cell.group == name))
                for i, name in enumerate(self.groups)
            ]
        if len(journeys) > 1:
            found += [
                Selection(f"journey:{i}", name, tuple(n for n, cell in numbered if cell.journey == name))
                for i, name in enumerate(journeys)
            ]
        found += [
            Selection(key, step, tuple(n for n, cell in numbered if (cell.journey, cell.step) == (journey, step)))
            for (journey, step), key in self.step_ids.items()
        ]
        from_region = dict(zip(self.groups, self.regions, strict=True))
        regions = list(dict.fromkeys(self.regions))
        if len(regions) > 1:
            found += [
                Selection(
                    f"region:{i}",
                    name or ANYWHERE,
                    tuple(n for n, cell in numbered if from_region[cell.group] == name),
                )
                for i, name in enumerate(regions)
            ]
        return tuple(found)

    @cached_property
    def step_ids(self) -> Mapping[tuple[str, str], str]:
        """The selection of each step, by its journey and name."""
        steps = dict.fromkeys((cell.journey, cell.step) for cell in self.cells)
        return {step: f"step:{number}" for number, step in enumerate(steps)}

    @cached_property
    def chosen(self) -> FloatArray:
        """Which cells each selection holds, as zeros and ones, shape (selections, cells)."""
        found = np.zeros((len(self.selections), len(self.cells)))
        for number, selection in enumerate(self.selections):
            found[number, list(selection.cells)] = 1.0
        return found

    @cached_property
    def width(self) -> int:
        return len(LOAD) + len(GROUP) * len(self.groups) + len(REQUESTS) * len(self.selections)

    def load(self, name: str) -> int:
        return LOAD.index(name)

    def group(self, number: int, name: str) -> int:
        return len(LOAD) + len(GROUP) * number + GROUP.index(name)

    def requests(self, selection: int, name: str) -> int:
        return len(LOAD) + len(GROUP) * len(self.groups) + len(REQUESTS) * selection + REQUESTS.index(name)

    def row(self, told: Told, ordered: float, by_group: Sequence[float]) -> bytes:
        """The figures of a row, packed as 32-bit floats. ``ordered`` are the users that should be there (visitors
        counted as they are), ``by_group`` what was ordered for each group."""
        rollup = told.rollup
        handled = rollup["handled"]
        values: list[float] = [
            rollup["seconds"],
            ordered,
            rollup["users"],
            rollup["in_flight"] - handled,
            rollup["overdue"] + handled,
            rollup["blind"],
        ]
        present = rollup["present"] or [rollup["users"]]
        for wanted, there in zip(by_group, present, strict=False):
            values += [wanted, there]
        values += [np.nan] * (len(LOAD) + len(GROUP) * len(self.groups) - len(values))
        cells = [cell for cell in told.histograms if cell < LOW]
        times = self.chosen @ histogram.decode_rows([told.histograms[c] for c in cells], cells, len(self.cells))
        sums = [np.array(rollup[name], dtype=np.float64) for name in REQUESTS[:4]]
        figures = [self.chosen @ column for column in sums]
        figures += [percentiles_s(times, percent) for percent in (50, 95, 99)]
        return np.concatenate([values, np.column_stack(figures).ravel()]).astype(np.float32).tobytes()

    def table(self, rows: Sequence[bytes]) -> FloatArray:
        """Packed rows as an array, shape (rows, width); what an older row does not tell is NaN."""
        whole = self.width * np.dtype(np.float32).itemsize
        unknown = np.full(self.width, np.nan, dtype=np.float32).tobytes()
        rows = [row if len(row) == whole else row + unknown[len(row) :] for row in rows]
        return np.frombuffer(b"".join(rows), dtype=np.float32).astype(np.float64).reshape(len(rows), self.width)
