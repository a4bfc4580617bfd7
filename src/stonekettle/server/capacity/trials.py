"""Trials of a plan: the experiment that confirms or breaks it, and what was foretold beside what came of it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from datetime import datetime
from statistics import median
from typing import Any

from ninja import Schema

from stonekettle.core.analysis import Analysis
from stonekettle.core.capacity import Unplanned
from stonekettle.core.capacity_study import Plan
from stonekettle.core.levels import Level
from stonekettle.core.objectives import ComfortLimit
from stonekettle.plan.checking import parse, to_yaml
from stonekettle.plan.quantities import format_duration
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import resource_text
from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.capacity import planning
from stonekettle.server.capacity.models import CapacityPlan, CapacityTrial
from stonekettle.server.capacity.planning import Amount, Asked
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run

HALF_S, PEAK_S, AFTER_S, BEFORE_END_S = 45, 120, 20, 4
AT_THE_PEAK = 0.05
"""A level is at the peak whose load differs from it by no larger share."""
ANOTHER = 0.25
"""Instances that differ by more are others, or of another size."""
MOST_USERS = 20_000


class ForetoldGoal(Schema):
    """What an objective was foretold to be at the peak; ``number`` is its own in the experiment."""

    number: int
    text: str
    unit: str
    limit: float
    judged: Amount


class ForetoldUse(Schema):
    """How full a resource was foretold to be, with so many servers of each instance."""

    key: str
    component: str
    servers: float
    use: Amount


class Foretold(Schema):
    """What a plan foretold: at so many ``users``, with so many instances of each component."""

    users: float
    counts: dict[str, int]
    goals: list[ForetoldGoal]
    uses: list[ForetoldUse]


class TriedGoal(ForetoldGoal):
    """``seen`` is what it was, None: not known; ``within``: inside what was foretold."""

    seen: float | None
    within: bool | None


class TriedUse(Schema):
    """A resource: how full it was foretold to be and was, and with how many instances of its component."""

    resource: str
    component: str
    use: Amount
    seen: float | None
    planned: int
    instances: float | None


class TrialLine(Schema):
    """A trial of a plan with its last finished ``run`` (None: none yet). Nothing of it counts where the run had other
    instances than planned: then ``otherwise`` says so."""

    id: int
    made_at: datetime
    experiment_id: int
    experiment: str
    users: float
    run: int | None
    goals: list[TriedGoal]
    uses: list[TriedUse]
    otherwise: str


class Trials(Schema):
    """The trials of a plan, the newest first. Of those that count, what was foretold of objectives was off by so much
    in the median (``off``, a ratio; None: there is none)."""

    trials: list[TrialLine]
    off: float | None


@act("made a trial of", Role.PLANNER)
def make(account: Account, plan: CapacityPlan) -> CapacityTrial:
    """Make the experiment that would confirm a plan or break it: half of its peak, then the peak. Where the system's
    operations can set instances, its timeline sets those of the plan, and those of before in the end. Raises
    :class:`Conflict` where there is no plan, and as :func:`planning.of` does."""
    question = planning.asked(plan)
    found = question.case.cheapest(carried=False)
    if isinstance(found, Unplanned):
        raise Conflict("There is no plan to try: no number of instances is enough.")
    users = round(question.case.users(found))
    if users > MOST_USERS:
        raise Conflict(f"{users} users are more than a trial makes ({MOST_USERS}). Write an experiment for it.")
    foretold = _foretold(question, found, users)
    experiment = experiments.create(account.actor, to_yaml(_document(plan, question, found, users)))
    experiments.expect(account.actor, experiment, users, "load")
    account.about("capacity plan", plan.pk, plan.name, note=f"as experiment {experiment.name}")
    return CapacityTrial.objects.create(
        capacity_plan=plan, experiment=experiment, foretold=foretold.model_dump(mode="json")
    )


def of(plan: CapacityPlan) -> Trials:
    lines = [_line(trial) for trial in plan.trials.select_related("experiment")[:20]]
    off = [
        abs(math.log(goal.seen / goal.judged.value))
        for line in lines
        if not line.otherwise
        for goal in line.goals
        if goal.unit == "s" and goal.seen and goal.judged.value > 0
    ]
    return Trials(trials=lines, off=math.exp(median(off)) - 1 if off else None)


def _foretold(question: Asked, found: Plan, users: int) -> Foretold:
    doing = question.case.doing(found)
    stations = question.about.known.system.stations
    sized = {name: size.times for name, size in found.sizes.items()}
    return Foretold(
        users=users,
        counts=dict(zip(question.about.parts, found.counts, strict=True)),
        goals=[
            ForetoldGoal(
                number=goal.number,
                text=text,
                unit="score" if goal.kind == "apdex" else "s",
                limit=goal.limit,
                judged=planning.amount(judged),
            )
            for goal, text, judged in zip(question.case.goals, question.about.goals, doing.judged, strict=True)
        ],
        uses=[
            ForetoldUse(
                key=station.key,
                component=station.component,
                servers=station.servers * sized.get(station.component, 1.0),
                use=planning.amount(use),
            )
            for station, use in zip(stations, doing.use, strict=True)
        ],
    )


def _document(plan: CapacityPlan, question: Asked, found: Plan, users: int) -> dict[str, Any]:
    """The experiment of the run that the plan rests on, with another load."""
    run = Run.objects.select_related("revision").get(pk=question.runs[0])
    told = plan.told
    source = parse(run.revision.text)
    assert isinstance(source, dict)  # it was checked when it was kept
    kept = {key: value for key, value in source.items() if key not in _LEFT_OUT}
    journeys = kept["journeys"]
    if told.mix:
        named = [str(one.get("journey") or one.get("name")) for one in journeys]
        journeys = [{**one, "weight": told.mix.get(name, 0)} for one, name in zip(journeys, named, strict=True)]
        journeys = [one for one in journeys if one["weight"]]
    half = max(1, users // 2)
    document: dict[str, Any] = {
        **kept,
        "name": f"{plan.name[:60]}: trial",
        "question": f"Does the plan hold {users} users?",
        "system": told.system,
        "journeys": journeys,
        "load": [
            {"hold": {"users": half, "for": format_duration(HALF_S)}},
            {"hold": {"users": users, "for": format_duration(PEAK_S)}},
            {"hold": {"users": half, "for": format_duration(AFTER_S)}},
        ],
    }
    if told.think is not None:
        document["waits"] = {"think": f"exponential {format_duration(told.think)}"}
    if timeline := _timeline(question, found):
        document["timeline"] = timeline
    return document


_LEFT_OUT = ("groups", "load", "candidates", "timeline", "budget", "tags", "notes", "hypothesis")


def _timeline(question: Asked, found: Plan) -> list[dict[str, Any]]:
    """Instances as planned at the beginning, and as before in the end."""
    operations = question.system.operations
    names = [one.name for one in operations.changes if set(one.asks) == {"component", "count"}] if operations else []
    if not names:
        return []
    end_s = HALF_S + PEAK_S + AFTER_S - BEFORE_END_S
    moved = [
        (part, before, after)
        for part, after in zip(question.about.parts, found.counts, strict=True)
        if (before := question.about.known.instances[part]) != after
    ]
    return [
        {"at": at, "change": names[0], "values": {"component": part, "count": count}}
        for at, which in (("1 s", 2), (format_duration(end_s), 1))
        for part, count in ((one[0], one[which]) for one in moved)
    ]


def _line(trial: CapacityTrial) -> TrialLine:
    foretold = Foretold.model_validate(trial.foretold)
    runs = Run.objects.there().filter(revision__experiment=trial.experiment, simulated=False, result__isnull=False)
    run = runs.order_by("-pk").first()
    analysis = findings_of(run) if run is not None else None
    level = _at_the_peak(analysis, foretold.users) if analysis is not None else None
    uses = [_use(one, level, foretold.counts) for one in foretold.uses]
    return TrialLine(
        id=trial.pk,
        made_at=trial.made_at,
        experiment_id=trial.experiment_id,
        experiment=trial.experiment.name,
        users=foretold.users,
        run=run.pk if run is not None else None,
        goals=[_goal(one, analysis, level) for one in foretold.goals],
        uses=uses,
        otherwise=_otherwise(uses, run, level),
    )


def _at_the_peak(analysis: Analysis, users: float) -> Level | None:
    near = [lv for lv in analysis.levels if abs(lv.load.delivered / users - 1) <= AT_THE_PEAK and not lv.moving]
    return max(near, key=lambda lv: lv.completions, default=None)


def _goal(one: ForetoldGoal, analysis: Analysis | None, level: Level | None) -> TriedGoal:
    seen = None
    if analysis is not None and level is not None and isinstance(analysis.comfort, ComfortLimit):
        for result in analysis.comfort.results:
            at = dict(zip(result.level_loads, result.values, strict=True))
            value = at.get(level.load.delivered, math.nan)
            if result.objective.number == one.number and math.isfinite(value):
                seen = value
    within = None if seen is None else one.judged.low <= seen <= one.judged.high
    return TriedGoal(**one.model_dump(), seen=seen, within=within)


def _use(one: ForetoldUse, level: Level | None, counts: Mapping[str, int]) -> TriedUse:
    seen = level.utilisation.get(one.key, math.nan) if level is not None else math.nan
    servers = level.capacity.get(one.key, math.nan) if level is not None else math.nan
    return TriedUse(
        resource=resource_text(one.key),
        component=one.component,
        use=one.use,
        seen=seen if math.isfinite(seen) else None,
        planned=counts[one.component],
        instances=servers / one.servers if math.isfinite(servers) and one.servers > 0 else None,
    )


def _otherwise(uses: list[TriedUse], run: Run | None, level: Level | None) -> str:
    """Why a run is no trial of the plan."""
    if run is None:
        return ""
    if level is None:
        return f"Run {run.pk} has no level at the peak, so it says nothing of it."
    other = {
        one.component: one for one in uses if one.instances is not None and abs(one.instances - one.planned) > ANOTHER
    }
    if not other:
        return ""
    had = ", ".join(
        f"{n.figure(one.instances or 0.0)} `{name}` instead of {one.planned}" for name, one in other.items()
    )
    return f"Run {run.pk} had {had}: it is no trial of this plan."
