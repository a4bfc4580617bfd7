"""A list of addresses (CSV) as a journey: a step for each, in order.

Columns are found by their names: ``address`` (or ``url``, ``path``), and if they are there ``method``,
``name``, ``think``. Without a header the first column with addresses is taken.
"""

from __future__ import annotations

import csv
import io
from typing import Any
from urllib.parse import urlsplit

from stonekettle.plan.imports import table
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.step import METHODS

MAX_STEPS = 1_000
_ADDRESS = ("address", "url", "uri", "path", "link")


def read(content: bytes, name: str, system: str) -> tuple[dict[str, Any], list[str]]:
    """The journey's document, and what was left out in words. Raises :class:`PlanError`."""
    rows = _rows(content)
    header = [cell.strip().lower() for cell in rows[0]]
    column = next((header.index(known) for known in _ADDRESS if known in header), None)
    has_header = column is not None
    if column is None:
        column = next((i for i, cell in enumerate(rows[0]) if _path(cell)), None)
    if column is None:
        mend = "Name a column 'address', or begin with addresses such as /departures."
        raise PlanError([Problem("line 1", "there is no column of addresses.", mend)])

    def cell(row: list[str], title: str) -> str:
        place = header.index(title) if has_header and title in header else -1
        return row[place].strip() if 0 <= place < len(row) else ""

    steps: list[dict[str, Any]] = []
    problems, names, hosts = [], dict[str, int](), set[str]()
    for number, row in enumerate(rows[1:] if has_header else rows, start=2 if has_header else 1):
        address = row[column].strip() if column < len(row) else ""
        path = _path(address)
        method = cell(row, "method").upper() or "GET"
        if path is None or method not in METHODS:
            wrong = f"{address!r} is not an address" if path is None else f"{method!r} is not a method"
            problems.append(
                Problem(f"line {number}", f"{wrong}.", "Write http://host/path or /path, and a method such as GET.")
            )
            continue
        hosts.add(urlsplit(address).netloc)
        title = (cell(row, "name") or f"{method} {path.partition('?')[0]}")[:70]
        names[title] = names.get(title, 0) + 1
        step = {"name": title if names[title] == 1 else f"{title} ({names[title]})", "request": f"{method} {path}"}
        steps.append({**step, "think": cell(row, "think") or "exponential 2 s"})
    if problems:
        raise PlanError(problems[:20])
    notes = []
    if len(hosts - {""}) > 1:
        notes.append(f"The addresses name {len(hosts - {''})} hosts; all go to the journey's one system.")
    if len(steps) > MAX_STEPS:
        notes.append(f"Only the first {MAX_STEPS} of {len(steps)} addresses are taken.")
    return {"name": name, "system": system, "steps": steps[:MAX_STEPS]}, notes


def _rows(content: bytes) -> list[list[str]]:
    text, _ = table.decoded(content)
    lines = [line for line in text.splitlines() if line.strip()]
    if not lines:
        raise PlanError([Problem("file", "the list is empty.", "Write an address on each line.")])
    delimiter = table.delimiter_of("\n".join(lines))
    try:
        return [row for row in csv.reader(io.StringIO("\n".join(lines)), delimiter=delimiter) if row]
    except csv.Error as error:
        raise PlanError([Problem("file", f"the list cannot be read: {error}.", "Close every quote.")]) from error


def _path(address: str) -> str | None:
    address = address.strip()
    try:
        parts = urlsplit(address)
    except ValueError:
        return None
    if address.startswith("/") or (parts.scheme in ("http", "https") and parts.netloc):
        return (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    return None
