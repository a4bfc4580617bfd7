"""Is as much work done as was promised?"""

from __future__ import annotations

from collections.abc import Sequence

from stonekettle.core.analysis import Analysis
from stonekettle.core.load import LoadKind
from stonekettle.core.throughput import ThroughputGoal, ThroughputResult
from stonekettle.plan.models import Plan
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Note


def goal_text(goal: ThroughputGoal, plan: Plan) -> str:
    """A promise as a phrase: "40 steps/s of all steps or more"."""
    return f"{goal.least:g} steps/s of {_subject(goal, plan)} or more"


def title(found: ThroughputResult, kind: LoadKind, plan: Plan) -> str:
    """What was done of it: "Does 42.1 steps/s of Buy ticket at 120 users, 40 were promised"."""
    what = f"{n.rate(found.rate.value)} of {_subject(found.goal, plan)}"
    if found.others_broken:
        return f"Other objectives are broken already where {what} are done"
    if found.kept:
        return f"Does {what} at {n.load(found.load, kind)}, {found.goal.least:g} were promised"
    return f"Does no more than {what}, {found.goal.least:g} were promised"


def note(analysis: Analysis, plan: Plan) -> Note | None:
    results = analysis.throughput
    if not results:
        return None
    short = [found for found in results if not found.kept]
    first = (short or results)[0]
    carried = "up to the load at which the other objectives hold" if _has_limit(analysis) else "at any load of this run"
    return Note(
        kind="throughput",
        grade="holds" if not short else "broken" if any(found.goal.decides for found in short) else "strained",
        title=title(first, analysis.load_kind, plan),
        text=f"The most that was done {carried}. {_certainty(first)}",
        details=tuple(_line(found, plan, analysis.load_kind) for found in results),
        evidence=Evidence(rows=("throughput",), at=first.load),
    )


def decisive(results: Sequence[ThroughputResult]) -> list[ThroughputResult]:
    """Those that decide, the broken ones alone where there are any."""
    deciding = [found for found in results if found.goal.decides]
    return [found for found in deciding if not found.kept] or deciding


def _has_limit(analysis: Analysis) -> bool:
    return getattr(analysis.comfort, "status", "") == "found"


def _certainty(found: ThroughputResult) -> str:
    within = found.rate.low < found.goal.least < found.rate.high
    told = f"Its 90 % interval is {n.figure(found.rate.low)}–{n.rate(found.rate.high)}"
    return f"{told}: what was promised lies inside, so that another run may say otherwise." if within else f"{told}."


def _subject(goal: ThroughputGoal, plan: Plan) -> str:
    return plan.steps[goal.steps[0]][1].name if goal.steps else "all steps"


def _line(found: ThroughputResult, plan: Plan, kind: LoadKind) -> str:
    role = "" if found.goal.decides else " (for information)"
    goal = f"{goal_text(found.goal, plan)}{role}"
    if found.others_broken:
        return f"✕ {goal}: other objectives are broken at every level"
    reached = f"{n.rate(found.rate.value)} at {n.load(found.load, kind)}"
    return f"○ {goal}: {reached}" if found.kept else f"✕ {goal}: {reached} at most"
