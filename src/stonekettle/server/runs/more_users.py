"""Is there room for more users in a run? By the slowdown of its steps or an Apdex score, against a limit."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
from ninja import Field, Schema

from stonekettle.core import saturation, slowdown
from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.histogram import bucket_of, decode_rows
from stonekettle.core.levels import BLOCK_S, Level
from stonekettle.core.limit import Response
from stonekettle.core.load import UNITS
from stonekettle.core.slowdown import Index, Scored, Served
from stonekettle.core.types import CoreInputError, FloatArray, IntArray
from stonekettle.engine.rollup import LOW, unpack_histograms
from stonekettle.engine.seconds import Layout
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.report.notes import room
from stonekettle.report.notes.note import Note
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run, RunSecond
from stonekettle.server.runs.plate import narrowest


class Asked(Schema):
    """By which index, and its limit: so many times as slow, or a score of 0..1 with the target time T."""

    index: Literal["slowdown", "apdex"] = "slowdown"
    limit: float = 2.0
    target_s: float = Field(0.5, gt=0, le=600)


class LimitError(PlanError):
    title = "This is no limit"


class IndexAtLevel(Schema):
    """The index at a level, with its 90 % interval."""

    level: int
    load: float
    value: float
    low: float
    high: float


class Crossing(Schema):
    value: float
    low: float
    high: float


class RoomForMoreUsers(Schema):
    """The answer, the index at each level in order of load, and where it crosses the ``limit``: measured, or, where
    ``extrapolated``, by demands. ``tested`` is the highest load; ``left_out`` are steps with too few answers."""

    note: Note
    index: str
    limit: float
    unit: str
    levels: list[IndexAtLevel]
    tested: float
    crossing: Crossing | None
    extrapolated: bool
    left_out: list[str]


def of(run: Run, asked: Asked) -> RoomForMoreUsers:
    """Raises :class:`Conflict` where the run has no levels to tell it, or claims nothing of the system, and
    :class:`LimitError`."""
    analysis = findings_of(run)
    if analysis is None or len(analysis.levels) < 2:
        raise Conflict(f"Run {run.pk} has no two levels that today's analysis measured, so nothing grows in it.")
    if isinstance(analysis.limiting, LimitingResource) and analysis.limiting.cause == "generator":
        raise Conflict("The generators were the limit of this run: how it felt to be a user, nobody knows.")
    if run.seeded and asked.index == "apdex":
        raise Conflict(f"Of run {run.pk}, which came with the product, no single response times were kept to score.")
    layout = run.layout
    index = _apdex(run, layout, analysis, asked.target_s) if asked.index == "apdex" else _slow(run, layout, analysis)
    if index is None:
        raise Conflict(f"No step of run {run.pk} has {slowdown.LEAST_ANSWERS} answers at each level.")
    try:
        found = slowdown.room(index, asked.limit)
    except CoreInputError as error:
        raise LimitError([Problem("limit", str(error).partition(": ")[2], "")]) from error
    why = ""
    if found.status == "not reached":
        # The curve is dear, and told only where the run did not go so far.
        response, why = _response(analysis, asked.index)
        found = slowdown.room(index, asked.limit, response)
    told = room.note(
        index,
        found,
        asked.limit,
        analysis.load_kind,
        target_s=asked.target_s,
        why_no_further=why,
        in_use=_in_use(analysis),
    )
    steps = _steps(layout)
    low, high = index.ends()
    return RoomForMoreUsers(
        note=told,
        index=asked.index,
        limit=asked.limit,
        unit=UNITS[analysis.load_kind],
        levels=[
            IndexAtLevel(level=number, load=load, value=value, low=below, high=above)
            for number, load, value, below, above in zip(
                index.levels, index.loads.tolist(), index.values.tolist(), low.tolist(), high.tolist(), strict=True
            )
        ],
        tested=found.tested,
        crossing=Crossing(value=found.load.value, low=found.load.low, high=found.load.high) if found.load else None,
        extrapolated=found.extrapolated,
        left_out=[]
        if asked.index == "apdex"
        else [layout.selections[number].name for place, number in enumerate(steps) if place not in index.steps],
    )


def _response(analysis: Analysis, index: str) -> tuple[Response | None, str]:
    """How the mean response goes on by the demands; where nothing tells it, why."""
    if index == "apdex":
        return None, "no law leads from demands to an Apdex score."
    if analysis.load_kind != "users":
        return None, "people arrive by rate, and the laws of those who wait and think do not tell of them."
    if not any(demand.ceiling for demand in analysis.hardware_demands):
        return None, "no resource is metered whose demand says how waiting grows."
    found = saturation.response_curve(analysis.levels, analysis.hardware_demands)
    return found, "" if found else "its levels bear no curve of the response."


def _in_use(analysis: Analysis) -> float:
    """How busy the busiest hardware was at the lowest level."""
    lowest = min(analysis.levels, key=lambda level: level.load.delivered)
    known = [lowest.utilisation.get(demand.key, math.nan) for demand in analysis.hardware_demands]
    return max((use for use in known if math.isfinite(use)), default=0.0)


def _steps(layout: Layout) -> list[int]:
    """The selections that are steps."""
    return [number for number, one in enumerate(layout.selections) if one.id.startswith("step:")]


def _slow(run: Run, layout: Layout, analysis: Analysis) -> Index | None:
    width = narrowest(run)
    told = list(RunSecond.objects.filter(run=run, every=width).values_list("second", "figures"))
    figures = layout.table([bytes(packed) for _, packed in told])
    seconds = np.array([second for second, _ in told], dtype=np.int64)
    steps = _steps(layout)

    def column(name: str) -> FloatArray:
        return np.nan_to_num(figures[:, [layout.requests(step, name) for step in steps]])

    done, took_s = column("completed") - column("errors"), column("response_sum_s")
    levels = []
    for level, rows, block in _by_block(analysis.levels, seconds, width):
        load = level.load
        levels.append(
            Served(level.number, load.delivered, load.blind, _added(done[rows], block), _added(took_s[rows], block))
        )
    return slowdown.slowdown(levels)


def _apdex(run: Run, layout: Layout, analysis: Analysis, target_s: float) -> Index | None:
    width = narrowest(run)
    rows = RunSecond.objects.filter(run=run, every=width)
    edges = bucket_of(np.round(np.array([target_s, 4 * target_s]) * 1e6).astype(np.int64)) + 1
    seconds, met, count = [], [], []
    for second, packed, histograms in rows.values_list("second", "figures", "histograms").iterator(chunk_size=500):
        cells = [data for cell, data in unpack_histograms(bytes(histograms)).items() if cell < LOW]
        (times,) = decode_rows(cells, [0] * len(cells), 1)
        within = [float(times[:edge].sum()) for edge in edges]
        failed = float(np.nan_to_num(layout.table([bytes(packed)])[0][layout.requests(0, "errors")]))
        seconds.append(second)
        met.append((within[0] + within[1]) / 2)
        count.append(float(times.sum()) + failed)
    told = np.array([met, count]).T
    levels = []
    for level, chosen, block in _by_block(analysis.levels, np.array(seconds, dtype=np.int64), width):
        both = _added(told[chosen], block)
        levels.append(Scored(level.number, level.load.delivered, level.load.blind, both[:, 0], both[:, 1]))
    return slowdown.apdex(levels)


def _by_block(levels: Sequence[Level], seconds: IntArray, width: int) -> Iterator[tuple[Level, IntArray, IntArray]]:
    """Each level with the rows that lie in the seconds of it that count, and the block of each."""
    for level in levels:
        inside = np.zeros(seconds.size, dtype=np.bool_)
        for first, end in level.spans:
            inside |= (seconds >= first) & (seconds + width <= end)
        rows = np.flatnonzero(inside)
        if rows.size:
            yield level, rows, np.arange(rows.size) // max(1, BLOCK_S // width)


def _added(values: FloatArray, block: IntArray) -> FloatArray:
    """Rows added up by block, shape (blocks, columns)."""
    sums = np.zeros((int(block[-1]) + 1, values.shape[1]))
    np.add.at(sums, block, values)
    return sums
