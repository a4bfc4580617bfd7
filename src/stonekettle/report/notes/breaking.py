"""From which load on do errors pass their limit?"""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.core.load import LoadKind
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
            title=f"Breaks between {n.amount(found.load.low)} and {n.load(found.load.high, kind)}"
            + (", and recovers" if found.recovered_at is not None else ""),
            text=_text(found, kind),
            details=first,
            evidence=Evidence.around(("errors",), found.load),
        )
    if found.reason is Reason.GENERATOR:
        return Note(
            kind="breaking",
            grade="open",
            title="Breaking point: no answer",
            text="The first load at which errors pass their limit is one that the generators were short of: errors may "
            "be their own, and the system felt another load.",
            details=first,
            evidence=Evidence(rows=("errors", "blur")),
        )
    if first:
        return Note(
            kind="breaking",
            grade="strained",
            title="Some errors, under the limit",
            text="The error ratio passed the limit at no level for sure.",
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


def _text(found: BreakingPoint, kind: LoadKind) -> str:
    said = f"Errors pass {n.percent(found.limit)}: {n.percent(found.error_ratio)} at {n.load(found.load.high, kind)}"
    if found.recovered_at is None:
        return f"{said}. At no higher load are they under it again for sure."
    return f"{said}. At {n.load(found.recovered_at, kind)} they are under it again: load alone does not explain them."
