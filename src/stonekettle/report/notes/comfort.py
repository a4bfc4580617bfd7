"""Up to which load do the objectives hold?"""

from __future__ import annotations

from collections.abc import Sequence

from stonekettle.core.analysis import Analysis
from stonekettle.core.load import UNITS, LoadKind
from stonekettle.core.objectives import ComfortLimit, Objective, ObjectiveResult
from stonekettle.core.types import Declined, Reason
from stonekettle.plan.models import Plan
from stonekettle.plan.quantities import format_duration
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Note, declined, span

NONE_MISSED = "Every objective held at every level. The limit lies beyond the load of this run."
MOST_NAMED = 3


def objective_text(objective: Objective, plan: Plan) -> str:
    """An objective as a phrase: "95 % of Buy ticket within 2 s"."""
    subject = plan.steps[objective.steps[0]][1].name if objective.steps else "all steps"
    if objective.kind == "errors":
        return f"errors of {subject} under {objective.limit * 100:g} %"
    if objective.kind == "mean":
        return f"{subject} within {format_duration(objective.limit)} on the average"
    if objective.kind == "apdex":
        return f"Apdex of {subject} {objective.limit:g} or more at T = {format_duration(objective.target_s)}"
    return f"{objective.percent:g} % of {subject} within {format_duration(objective.limit)}"


def title(found: ComfortLimit, kind: LoadKind) -> str:
    if found.status == "holds":
        return f"Holds at least {n.load(found.tested, kind)} ({n.rate(found.throughput)})"
    assert found.load is not None  # by status
    if found.status == "below":
        return f"Objectives are broken at the lowest load measured, {n.load(found.load.value, kind)}"
    return f"Holds {n.load(found.load.value, kind)} ({n.rate(found.throughput)}), {span(found.load)}"


def note(analysis: Analysis, plan: Plan) -> Note:
    found = analysis.comfort
    if isinstance(found, Declined):
        if found.reason is not Reason.NO_OBJECTIVES:
            return declined("comfort", "Comfort limit", found)
        return Note(
            kind="comfort",
            grade="open",
            title="No objectives, no comfort limit",
            text="Give the experiment objectives on response times or errors, and a run will say up to which load they "
            "hold.",
        )
    heading = title(found, analysis.load_kind)
    details = tuple(_line(result, plan, analysis) for result in found.results)
    between = _between(found, plan, analysis.load_kind)
    if found.status == "holds":
        return Note(
            kind="comfort",
            grade="strained" if between else "holds",
            title=heading,
            text=("The limit lies beyond the load of this run." if between else NONE_MISSED) + between,
            details=details,
            evidence=Evidence(rows=("response", "errors")),
        )
    assert found.load is not None  # by status
    assert found.deciding is not None
    row = "errors" if found.deciding.kind == "errors" else "response"
    return Note(
        kind="comfort",
        grade="broken" if found.status == "below" else "strained",
        title=heading,
        text=f"Beyond it the first objective breaks: {objective_text(found.deciding, plan)}.{between}",
        details=details,
        evidence=Evidence.around((row,), found.load),
    )


def _line(result: ObjectiveResult, plan: Plan, analysis: Analysis) -> str:
    kind = analysis.load_kind
    goal = objective_text(result.objective, plan) + ("" if result.objective.decides else " (for information)")
    between = f", but not at {_loads(result.missed_at, kind)}" if result.missed_at else ""
    first = _first_miss(result, analysis)
    if result.load is None:
        return f"○ {goal}: holds to {n.load(result.level_loads[-1], kind)}{between}{first}"
    if result.broken_everywhere:
        return f"✕ {goal}: broken at every level{first}"
    return f"✕ {goal}: holds to {n.load(result.load.value, kind)} ({span(result.load)}){between}{first}"


def _first_miss(result: ObjectiveResult, analysis: Analysis) -> str:
    """When a level missed it for the first time, and with which load."""
    at = {level.load.delivered: level for level in analysis.levels}
    missed = [
        at[load]
        for load, value in zip(result.level_loads, result.values, strict=True)
        if load in at and misses(result.objective, value)
    ]
    if not missed:
        return ""
    first = min(missed, key=lambda level: level.start_s)
    return f"; first missed {n.seconds(first.start_s)} in, with {n.load(first.load.delivered, analysis.load_kind)}"


def misses(objective: Objective, value: float) -> bool:
    """Whether a level's figure misses an objective; what is not known does not."""
    return value < objective.limit if objective.kind == "apdex" else value > objective.limit


def _loads(loads: Sequence[float], kind: LoadKind) -> str:
    *others, last = [n.amount(load) for load in loads[:MOST_NAMED]]
    told = f"{', '.join(others)} and {last}" if others else last
    more = f" and {len(loads) - MOST_NAMED} more" if len(loads) > MOST_NAMED else ""
    return f"{told} {UNITS[kind]}{more}"


def _between(found: ComfortLimit, plan: Plan, kind: LoadKind) -> str:
    """That a goal was missed at a level below, in a sentence."""
    missed = [result for result in found.results if result.missed_at]
    told = (f"{objective_text(r.objective, plan)} at {_loads(r.missed_at, kind)}" for r in missed)
    return f" Missed for a while all the same: {'; '.join(told)}." if missed else ""
