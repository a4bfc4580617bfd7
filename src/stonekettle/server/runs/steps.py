"""A run's journeys and steps as a table: what each did in a stretch of the run.

Read from the widest rows that fit into the stretch, so that a table of hours costs about what one of minutes does;
percentiles come from histograms added up, never from other percentiles.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import xlsxwriter
from ninja import Schema

from stonekettle.core import histogram
from stonekettle.core.spread import spread_of
from stonekettle.core.types import FloatArray
from stonekettle.engine.rollup import LOW, unpack_histograms
from stonekettle.engine.seconds import WIDTHS, Layout
from stonekettle.report.spreadsheet import harmless
from stonekettle.server.runs.models import Run, RunSecond
from stonekettle.server.runs.plate import Column, Stretch, narrowest

TREND_BINS = 40
PERCENTS = (50.0, 95.0, 99.0)
XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
COUNTS = ("completed", "errors", "response_sum_s", "received")


class GoalState(Schema):
    """How an objective on response times stands in the stretch: within what ``percent`` were answered, against
    ``limit_s``; ``holds`` is None where nothing was measured."""

    percent: float
    limit_s: float
    value_s: float | None
    holds: bool | None


class StepLine(Schema):
    """A journey, a group or a step in a stretch of a run (``id`` is a selection of the plate, ``under`` that of its
    journey). Times in s, of what succeeded: the mean exactly, least, most and deviation within 0.8 %; ``rate`` of
    successes per s; ``received`` bytes in all (None: an older run did not record them); ``trend`` is the 95th
    percentile over the stretch."""

    id: str
    under: str
    kind: str
    name: str
    count: int
    rate: float
    errors: int
    error_share: float | None
    mean_s: float | None
    p50_s: float | None
    p95_s: float | None
    p99_s: float | None
    least_s: float | None
    most_s: float | None
    deviation_s: float | None
    received: int | None
    goals: list[GoalState]
    trend: Column


class StepTable(Schema):
    """What was done from ``from_s`` to before ``until_s`` of a run."""

    from_s: int
    until_s: int
    lines: list[StepLine]


@dataclass(frozen=True)
class Sums:
    """Sums by cell: :data:`COUNTS`, shape (4, cells), and histograms, shape (cells, buckets)."""

    counts: FloatArray
    times: FloatArray
    received_known: bool


def rounded(run: Run, window: Stretch, seconds: int) -> tuple[int, int]:
    """The stretch of a run of so many seconds, from its beginning to before its end, in whole rows."""
    window, width = window.within(seconds), narrowest(run)
    start = window.from_s // width * width
    return start, max(start, math.ceil(min(window.until_s or seconds, seconds) / width) * width)


def of(run: Run, window: Stretch, seconds: int) -> StepTable:
    """The table of a stretch of a run of so many seconds."""
    layout = run.layout
    start, end = rounded(run, window, seconds)
    sums = sums_of(run, start, end)
    # Of a run that came with the product only what its plate draws was kept, not what each generator told.
    drawn = _drawn(run, layout, start, end) if run.seeded else None
    trends = _trends(run, layout, start, end, narrowest(run))
    goals: dict[str, list[Any]] = {}
    for goal in run.goals:
        goals.setdefault(goal.selection, []).append(goal)
    lines = []
    under = _journeys(layout)
    for number, selection in enumerate(layout.selections):
        cells = list(selection.cells)
        if drawn is None:
            done, errors, took_s, received = (float(row[cells].sum()) for row in sums.counts)
        else:
            (done, errors, took_s), received = drawn[:, number].tolist(), 0.0
        times = sums.times[cells].sum(axis=0)
        good, spread = done - errors, spread_of(times)
        p50, p95, p99 = (known(histogram.percentile_s(times, percent)) for percent in PERCENTS)
        lines.append(
            StepLine(
                id=selection.id,
                under=under.get(selection.id, ""),
                kind=selection.id.split(":")[0],
                name=selection.name,
                count=round(done),
                rate=good / max(1, end - start),
                errors=round(errors),
                error_share=errors / done if done else None,
                mean_s=took_s / good if good > 0 else None,
                p50_s=p50,
                p95_s=p95,
                p99_s=p99,
                least_s=known(spread.least_s),
                most_s=known(spread.most_s),
                deviation_s=known(spread.deviation_s),
                received=round(received) if sums.received_known and drawn is None else None,
                goals=[_state(goal.percent, goal.limit_s, times) for goal in goals.get(selection.id, [])],
                trend=trends[number],
            )
        )
    return StepTable(from_s=start, until_s=end, lines=lines)


def _drawn(run: Run, layout: Layout, start: int, end: int) -> FloatArray:
    """Completed, errors and the sum of response times (s) by selection, shape (3, selections), as a plate has them."""
    rows = RunSecond.objects.filter(run=run, every=narrowest(run), second__gte=start, second__lt=end)
    figures = np.nan_to_num(layout.table([bytes(packed) for packed in rows.values_list("figures", flat=True)]))
    return np.array(
        [
            [figures[:, layout.requests(number, name)].sum() for number in range(len(layout.selections))]
            for name in COUNTS[:3]
        ]
    )


def _state(percent: float, limit_s: float, times: FloatArray) -> GoalState:
    value = known(histogram.percentile_s(times, percent))
    return GoalState(percent=percent, limit_s=limit_s, value_s=value, holds=None if value is None else value <= limit_s)


def _journeys(layout: Layout) -> dict[str, str]:
    """The journey that each step belongs to, both as selections; none where there is only one."""
    by_name = {one.name: one.id for one in layout.selections if one.id.startswith("journey:")}
    return {key: by_name.get(journey, "") for (journey, _), key in layout.step_ids.items()}


def covering(start: int, end: int, narrowest: int) -> Iterator[tuple[int, int]]:
    """The widest rows that make up a stretch, as (width, first second)."""
    at = start
    while at < end:
        width = next((w for w in reversed(WIDTHS) if w >= narrowest and at % w == 0 and at + w <= end), narrowest)
        yield width, at
        at += width


def sums_of(run: Run, start: int, end: int) -> Sums:
    """What was done from a second to before another, both :func:`rounded`."""
    pieces = list(covering(start, end, narrowest(run)))
    cells = len(run.layout.cells)
    counts = np.zeros((len(COUNTS), cells))
    encoded: list[bytes] = []
    places: list[int] = []
    known = True
    for every in WIDTHS:
        wanted = [at for width, at in pieces if width == every]
        if not wanted:
            continue
        rows = RunSecond.objects.filter(run=run, every=every, second__in=wanted)
        for *told, histograms in rows.values_list(*(f"told__{name}" for name in COUNTS), "histograms"):
            for place, column in enumerate(told):
                if column:
                    counts[place, : len(column)] += column
            known = known and bool(told[3]) == bool(told[0])
            for cell, data in unpack_histograms(bytes(histograms)).items():
                if cell < LOW:
                    encoded.append(data)
                    places.append(cell)
    return Sums(counts, histogram.decode_rows(encoded, places, cells), known)


def _trends(run: Run, layout: Layout, start: int, end: int, narrowest: int) -> list[Column]:
    """The 95th percentile of each selection over the stretch; of several bins in one the worst."""
    width = next((w for w in WIDTHS if w >= narrowest and end - start <= TREND_BINS * w), WIDTHS[-1])
    rows = RunSecond.objects.filter(run=run, every=width, second__gte=start // width * width, second__lt=end)
    told = dict(rows.values_list("second", "figures"))
    first = start // width * width
    bins = math.ceil(max(1, end - first) / width)
    figures = np.full((bins, layout.width), np.nan)
    for second, packed in told.items():
        figures[(second - first) // width] = layout.table([bytes(packed)])[0]
    each = math.ceil(bins / TREND_BINS)
    found = []
    for number in range(len(layout.selections)):
        column = figures[:, layout.requests(number, "p95")]
        padded = np.concatenate([column, np.full(-bins % each, np.nan)]).reshape(-1, each)
        worst = [float(np.nanmax(part)) if np.isfinite(part).any() else math.nan for part in padded]
        found.append([known(float(f"{value:.4g}")) for value in worst])
    return found


def known(value: float) -> float | None:
    return value if math.isfinite(value) else None


HEADS: Mapping[str, str] = {
    "kind": "kind",
    "name": "name",
    "count": "completed",
    "rate": "successes per s",
    "errors": "errors",
    "error_share": "error share",
    "mean_s": "mean s",
    "p50_s": "p50 s",
    "p95_s": "p95 s",
    "p99_s": "p99 s",
    "least_s": "least s",
    "most_s": "most s",
    "deviation_s": "standard deviation s",
    "received": "bytes received",
}


def _objectives(line: StepLine) -> str:
    words = {True: "holds", False: "missed", None: "unknown"}
    return "; ".join(f"{goal.percent:g} % within {goal.limit_s:g} s: {words[goal.holds]}" for goal in line.goals)


def as_csv(table: StepTable) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([*HEADS.values(), "objectives", "from s", "until s"])
    for line in table.lines:
        # A name may begin as a formula does: a table program must not take it for one.
        cells = ["" if (value := getattr(line, key)) is None else harmless(value) for key in HEADS]
        writer.writerow([*cells, _objectives(line), table.from_s, table.until_s])
    return out.getvalue()


def as_xlsx(table: StepTable, title: str) -> bytes:
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    book.set_properties({"title": title})
    sheet = book.add_worksheet("Steps")
    bold = book.add_format({"bold": True})
    sheet.write_row(0, 0, [*HEADS.values(), "objectives", "from s", "until s"], bold)
    for row, line in enumerate(table.lines, start=1):
        for column, key in enumerate(HEADS):
            value = getattr(line, key)
            if value is not None:
                sheet.write(row, column, value)
        sheet.write_string(row, len(HEADS), _objectives(line))
        sheet.write_row(row, len(HEADS) + 1, [table.from_s, table.until_s])
    sheet.freeze_panes(1, 2)
    sheet.autofit()
    book.close()
    return out.getvalue()
