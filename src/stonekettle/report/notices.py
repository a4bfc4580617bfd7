"""What deserves a look while a run goes on, in words."""

from __future__ import annotations

from stonekettle.core.notices import Kind
from stonekettle.report import numbers as n

ROWS: dict[Kind, str] = {
    "objective": "response",
    "errors": "errors",
    "order": "load",
    "blur": "blur",
    "stop rule": "errors",
}
"""The row of the plate in which each is to be seen."""


def text(kind: Kind, subject: str, value: float, limit: float) -> str:
    """A notice in a sentence; ``value`` is the worst so far."""
    share = n.percent(value)
    if kind == "objective":
        return f"{subject} does not hold: {share} took longer"
    if kind == "errors":
        return f"{share} of {subject} failed, and {n.percent(limit)} may"
    if kind == "order":
        return f"{share} of the load that is ordered is not there"
    if kind == "blur":
        return f"The generators were late with {share} of the users"
    return f"Close to a stop rule, {subject}: at {share} of it"
