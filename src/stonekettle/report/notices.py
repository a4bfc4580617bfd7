"""What deserves a look while a run goes on, in words."""

from __future__ import annotations

from stonekettle.core.notices import Kind
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import resource_text

ROWS: dict[Kind, str] = {
    "objective": "response",
    "errors": "errors",
    "order": "load",
    "blur": "blur",
    "stop rule": "errors",
}


def row(kind: Kind, subject: str) -> str:
    """The row of the plate in which it is to be seen: that of the resource, or one of those of all runs."""
    return ROWS.get(kind, f"resource:{subject}")


def text(kind: Kind, subject: str, value: float, limit: float, where: str = "") -> str:
    """A notice in a sentence; ``value`` is the worst so far. Of memory it is the growth a second, and ``limit`` what is
    in use by now. ``where`` is the instance that it is mostly of, if any."""
    share, named = n.percent(value), resource_text(subject).replace("`", "")
    if kind == "objective":
        return f"{subject} does not hold: {share} took longer"
    if kind == "errors":
        return f"{share} of {subject} failed, and {n.percent(limit)} may"
    if kind == "order":
        return f"{share} of the load that is ordered is not there"
    if kind == "blur":
        return f"The generators were late with {share} of the users"
    if kind == "cost":
        mostly = f", mostly at {where}" if where else ""
        return f"{named} works {share} more than the steps done explain{mostly}"
    if kind == "memory":
        full_s = 10.0 * round((1 - limit) / value / 10) if value > 0 else 0.0
        growth = f"{n.percent(60 * value)} of all a minute, more than the load explains"
        return f"{named} grows by {growth}: full in {n.seconds(max(10.0, full_s))} at this rate"
    return f"Close to a stop rule, {subject}: at {share} of it"
