"""A run's facts as CSV, and back: one line a fact, unknown is empty, blocks stand apart by spaces."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable

from stonekettle.core.facts import Fact
from stonekettle.report.spreadsheet import harmless

COLUMNS = ("level", "subject", "figure", "value", "standard_error", "n", "blocks")
BLOCK_DIGITS = 6
UNKNOWN = "-"


def write(facts: Iterable[Fact]) -> str:
    """The facts of a run; those of the whole run have no level."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    for fact in facts:
        numbers = (fact.value, fact.standard_error)
        told = " ".join(UNKNOWN if math.isnan(block) else f"{block:.{BLOCK_DIGITS}g}" for block in fact.blocks)
        row = (fact.level, harmless(fact.subject), fact.figure, *map(_told, numbers), fact.n, told)
        writer.writerow(["" if cell is None else cell for cell in row])
    return out.getvalue()


def read(text: str) -> list[Fact]:
    """What :func:`write` wrote. Raises ValueError, naming the line, where it is something else."""
    lines = csv.reader(io.StringIO(text))
    if tuple(next(lines, ())) != COLUMNS:
        raise ValueError(f"its first line is not {','.join(COLUMNS)}")
    found = []
    for number, cells in enumerate(lines, start=2):
        try:
            level, subject, figure, value, error, n, blocks = cells
            logs = tuple(math.nan if block == UNKNOWN else float(block) for block in blocks.split())
            known = (int(level) if level else None, subject.removeprefix("'"), figure)
            found.append(Fact(*known, _read(value), _read(error), int(n) if n else None, logs))
        except ValueError as fault:
            raise ValueError(f"line {number} is no fact: {fault}") from fault
    return found


def _told(value: float) -> str:
    return repr(float(value)) if math.isfinite(value) else ""


def _read(cell: str) -> float:
    return float(cell) if cell else math.nan
