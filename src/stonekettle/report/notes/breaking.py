"""From which load on do errors pass their limit?"""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.core.objectives import BreakingPoint
from stonekettle.core.types import Reason
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Note


def note(analysis: Analysis) -> Note | None:
    found, kind = analysis.breaking, analysis.load_kind
    first = tuple(
        f"First {e.kind}: at {n.seconds(e.second)} with {n.load(e.load, kind)}; {e.count} in all."
        for e in analysis.first_errors[:5]
    )
    if isinstance(found, BreakingPoint):
        return Note(
            kind="breaking",
            grade="broken",
            title=f"Breaks between {n.amount(found.load.low)} and {n.load(found.load.high, kind)}",
            text=f"Errors pass {n.percent(found.limit)} and stay there: {n.percent(found.error_ratio)} at "
            f"{n.load(found.load.value, kind)}.",
            details=first,
            evidence=Evidence.around(("errors",), found.load),
        )
    if first:
        return Note(
            kind="breaking",
            grade="strained",
            title="Some errors, under the limit",
            text="The error ratio never passed the limit for good.",
            details=first,
            evidence=Evidence(rows=("errors",)),
        )
    if found.reason is Reason.NOT_REACHED:
        return Note(
            kind="breaking",
            grade="holds",
            title="No errors",
            text=f"Every step succeeded up to {n.load(found.at_least or 0, kind)}.",
            evidence=Evidence(rows=("errors",)),
        )
    return None
