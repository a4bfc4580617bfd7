"""What is known of a run so far, in words that its end shall not take back."""

from __future__ import annotations

from collections.abc import Iterator

from stonekettle.core.analysis import Analysis
from stonekettle.core.living import Living
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.report import numbers as n
from stonekettle.report.notes import changes
from stonekettle.report.notes.comfort import objective_text
from stonekettle.report.notes.note import Evidence, Note, resource_text, span

UNMETERED = "Something that no meter sees may come first."


def notes(living: Living, analysis: Analysis, plan: Plan) -> tuple[Note, ...]:
    """What may be said so far as margin notes, the most important first."""
    return (*_objectives(living, analysis, plan), *_limits(living, analysis), *changes.notes(analysis))


def _objectives(living: Living, analysis: Analysis, plan: Plan) -> Iterator[Note]:
    kind = analysis.load_kind
    goals = {goal.number: goal for goal in document.core_objectives(plan)}
    for left in sorted(living.left, key=lambda one: one.load.value):
        goal = goals[left.objective]
        subject = plan.steps[goal.steps[0]][1].name if goal.steps else "All steps"
        yield Note(
            kind=f"left {left.objective}",
            grade="broken",
            title=f"{subject} left its objective at {n.load(left.load.value, kind)} for good",
            text=f"Missed at every level beyond: {objective_text(goal, plan)}; {span(left.load)}.",
            evidence=Evidence.around(("errors" if goal.kind == "errors" else "response",), left.load),
        )
    if living.holds is not None and not living.left:
        yield Note(
            kind="holds",
            grade="holds",
            title=f"Every objective holds up to {n.load(living.holds, kind)}",
            text="At every level that is over.",
            evidence=Evidence(rows=("response", "errors"), high=living.holds, low=0.0),
        )


def _limits(living: Living, analysis: Analysis) -> Iterator[Note]:
    kind = analysis.load_kind
    if living.saturated is not None:
        at = n.load(living.saturated.value, kind)
        title = f"Throughput peaks at {at} and falls beyond" if living.peaked else f"Past {at} throughput stops growing"
        yield Note(
            kind="saturation",
            grade="saturated",
            title=title,
            text=f"Saturation point {at}, {span(living.saturated)}.",
            evidence=Evidence.around(("throughput",), living.saturated),
        )
    if living.limiting is not None:
        cause, key = living.limiting
        subject = resource_text(key) if key else "something that no meter sees"
        yield Note(
            kind="limiting",
            grade="saturated",
            title=f"The limit is {subject}",
            text=LIMITS.get(cause, "Every metered resource has room."),
            evidence=Evidence(rows=(f"resource:{key}" if key else "throughput",)),
        )
    if living.next is not None:
        load = living.next.load
        yield Note(
            kind="next",
            grade="holds",
            title=f"Nothing is full yet; {resource_text(living.next.resource)} will be at about "
            f"{n.load(load.value, kind)}",
            text=f"By what a step costs there, {span(load)}; it was {n.percent(living.next.busy)} busy at the highest "
            f"level so far. {UNMETERED}",
            evidence=Evidence(rows=(f"resource:{living.next.resource}",)),
        )
    elif living.room is not None:
        yield Note(
            kind="room",
            grade="holds",
            title=f"Nothing is full yet, up to {n.load(living.room, kind)}",
            text="Throughput grew with the load at every level that is over.",
            evidence=Evidence(rows=("throughput",), low=0.0, high=living.room),
        )


LIMITS = {
    "hardware": "It is the first resource to fill as load grows.",
    "overload": "At the highest load answers fail after the work for them was done.",
    "pool": "Every connection is taken while the hardware behind has room.",
    "contention": "Throughput falls while no resource is full.",
}
