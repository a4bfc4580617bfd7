"""A plan as the screens show it."""

from __future__ import annotations

import math
from collections.abc import Iterator

from django.conf import settings
from ninja import Schema

from stonekettle.core.load import NAMES, UNITS, LoadKind
from stonekettle.core.orders import Ordered
from stonekettle.engine.script import layout_of
from stonekettle.meters.recognise import NAMES as RESOURCES
from stonekettle.plan import advice, document
from stonekettle.plan.differences import due_text, stop_text
from stonekettle.plan.load import ArrivalGroup, UserGroup
from stonekettle.plan.models import Plan
from stonekettle.plan.quantities import format_duration
from stonekettle.plan.secrecy import hidden
from stonekettle.report.notes.comfort import objective_text
from stonekettle.report.notes.throughput import goal_text

MOST_CORNERS = 60


class Corner(Schema):
    """A corner of the line of planned load: ``t`` in s."""

    t: float
    users: float


class LevelOutline(Schema):
    start_s: float
    end_s: float
    users: float
    moving: bool


class StepOutline(Schema):
    name: str
    request: str
    think: str
    expect: list[int]
    objectives: list[str]


class JourneyOutline(Schema):
    name: str
    share: float
    steps: list[StepOutline]


class ComponentOutline(Schema):
    name: str
    role: str
    meters: list[str]


class ChangeOutline(Schema):
    """A change that can be asked for under load, and what has to be said for it."""

    name: str
    asks: list[str]


class SystemOutline(Schema):
    """``resources`` are those that its meters might tell, as stop rules name them; ``changes`` those that its
    operations can make."""

    name: str
    base_url: str
    components: list[ComponentOutline]
    resources: list[str]
    changes: list[ChangeOutline]


class LoadAxis(Schema):
    """What the load is counted in; ``peak`` is the highest ordered."""

    kind: LoadKind
    name: str
    unit: str
    peak: float


class ProfileOutline(Schema):
    """The load over time: corners of the line (``t`` in s, ``users``, and arrivals per second as ``rate``), and
    its levels. Where a search leads the load the line is the most it may come to (``at_most``); where the load stays as
    it is until somebody changes it, it is ``endless``."""

    axis: LoadAxis
    duration_s: float
    peak_users: float
    peak_rate: float
    t: list[float]
    users: list[float]
    rate: list[float]
    levels: list[LevelOutline]
    at_most: bool = False
    endless: bool = False


class GoalOutline(Schema):
    """A response time objective as a line on the plate, in the row that shows what it is about (``of``, a selection
    of the plate); ``limit_s`` in seconds."""

    label: str
    limit_s: float
    of: str


class Pace(Schema):
    """How fast a group's people go through steps where answers take no time: steps a second of each user (None: they do
    not think), and steps of each arrival."""

    name: str
    per_user_s: float | None
    per_arrival: float


class PlanOutline(Schema):
    """``cost`` is what the planned time costs by the prices of the system's instances (None: it has none),
    ``generators_cost`` what the generators cost that it has as things are (None: they have no price), ``limit_s`` when
    its budget is spent. Where something takes ``turns`` (0: nothing does) all this is of each turn; the load of one
    ``grows`` up to so many times where something is scaled."""

    name: str
    question: str
    system: SystemOutline
    journeys: list[JourneyOutline]
    groups: list[str]
    paces: list[Pace]
    feeds: list[str]
    profile: ProfileOutline
    objectives: list[str]
    goals: list[GoalOutline]
    error_limit: float
    stops: list[str]
    timeline: list[str]
    cost: float | None
    generators_cost: float | None
    currency: str
    limit_s: float | None
    advice: list[str]
    turns: int
    grows: float


def of(plan: Plan, profile: ProfileOutline | None = None) -> PlanOutline:
    """The outline of a checked plan, with the load as planned, or as in ``profile``."""
    total = sum(journey.weight for journey in plan.journeys)
    goals = document.core_objectives(plan)
    told = {goal.number: objective_text(goal, plan) for goal in goals}
    told |= {goal.number: goal_text(goal, plan) for goal in document.throughput_goals(plan)}
    texts = [told[number] for number in sorted(told)]
    by_step: dict[str, list[str]] = {}
    for goal, text in zip(plan.objectives, texts, strict=True):
        by_step.setdefault(goal.step or "", []).append(text)
    return PlanOutline(
        name=plan.name,
        question=plan.question,
        system=SystemOutline(
            name=plan.system.name,
            base_url=hidden(plan.system.base_url),
            components=[
                ComponentOutline(
                    name=c.name, role=c.role, meters=[hidden(source) for meter in c.meters for source in meter.sources]
                )
                for c in plan.system.components
            ],
            resources=[f"{component}.{name}" for component, name in _resources(plan)],
            changes=[
                ChangeOutline(name=change.name, asks=list(change.asks))
                for change in (plan.system.operations.changes if plan.system.operations else ())
            ],
        ),
        journeys=[
            JourneyOutline(
                name=journey.name,
                share=journey.weight / total,
                steps=[
                    StepOutline(
                        name=step.name,
                        request=hidden(step.request),
                        think=f"{step.think.law} {format_duration(step.think.mean)}",
                        expect=list(step.expect_status),
                        objectives=by_step.get(step.name, []),
                    )
                    for step in journey.steps
                ],
            )
            for journey in plan.journeys
        ],
        groups=[_group_text(plan, group) for group in plan.groups],
        paces=[_pace(plan, group) for group in plan.written],
        feeds=[f"{feed.name}: {len(feed)} rows of {', '.join(feed.columns)}" for feed in plan.feeds],
        profile=profile or profile_of(plan.planned).model_copy(update={"at_most": plan.search is not None}),
        objectives=texts,
        goals=[
            GoalOutline(label=f"{goal.percent:g} % of {_subject(plan, goal.steps)}", limit_s=goal.limit, of=of)
            for goal, of in zip(goals, goal_selections(plan), strict=True)
            if goal.kind == "response"
        ],
        error_limit=plan.error_limit,
        stops=[stop_text(rule) for rule in plan.stop_when],
        timeline=[due_text(plan, due) for due in plan.timeline],
        cost=_cost(plan, plan.system.cost_per_hour),
        generators_cost=_cost(plan, _generators_per_hour(plan)),
        currency=plan.system.currency,
        limit_s=plan.limit_s,
        advice=list(advice.of(plan)),
        turns=plan.turns.turns if plan.turns is not None else 0,
        grows=max(map(plan.scaling.times, plan.scaling.values)) if plan.scaling is not None else 1.0,
    )


def _resources(plan: Plan) -> Iterator[tuple[str, str]]:
    for component in plan.system.components:
        if component.meters:
            written = [mapping.name for meter in component.meters for mapping in meter.resources]
            yield from ((component.name, name) for name in dict.fromkeys([*RESOURCES, *written]))


def _generators_per_hour(plan: Plan) -> float | None:
    """Each region that people come from has as many as a machine has."""
    price = plan.generators.price_per_hour
    return None if price is None else price * len({group.region for group in plan.people}) * settings.GENERATORS


def _cost(plan: Plan, per_hour: float | None) -> float | None:
    """What the load's time costs at a price per hour, within its budget."""
    seconds = min(plan.planned.duration_s, plan.limit_s or math.inf)
    return per_hour * seconds / 3600 if per_hour is not None and math.isfinite(seconds) else None


def _pace(plan: Plan, group: UserGroup | ArrivalGroup) -> Pace:
    steps, think_s = plan.round_of(group)
    return Pace(
        name=group.name,
        per_user_s=steps / think_s if think_s else None,
        per_arrival=steps * (group.journeys_each or 1),
    )


def goal_selections(plan: Plan) -> list[str]:
    """What each objective is about, as the plate selects it."""
    ids = layout_of(plan).step_ids
    found = []
    for goal in document.core_objectives(plan):
        journey, step = plan.steps[goal.steps[0]] if goal.steps else (None, None)
        found.append(ids.get((journey.name, step.name), "all") if journey and step else "all")
    return found


def sketch(plan: Plan) -> list[Corner]:
    """The planned load in few corners, for a small picture; none where a search decides it."""
    if plan.search is not None:
        return []
    corners = list(dict.fromkeys(_corners(plan)))
    step = max(1, len(corners) // MOST_CORNERS)
    return [Corner(t=t, users=users) for t, users in [*corners[::step], *corners[-1:]]]


def profile_of(ordered: Ordered, until_s: float = 0.0) -> ProfileOutline:
    """The load of these orders; a line without an end is drawn to ``until_s`` at least."""
    corners = ordered.corners(until_s)
    return ProfileOutline(
        duration_s=ordered.duration_s if math.isfinite(ordered.duration_s) else corners[-1][0],
        axis=_axis(ordered),
        peak_users=ordered.peak_users,
        peak_rate=ordered.peak_rate,
        t=[t for t, _, _ in corners],
        users=[users for _, users, _ in corners],
        rate=[rate for _, _, rate in corners],
        levels=[
            LevelOutline(start_s=level.start_s, end_s=level.end_s, users=level.users, moving=level.moving)
            for level in ordered.levels()
        ],
    )


def _axis(ordered: Ordered) -> LoadAxis:
    kind = ordered.load_kind
    peak = ordered.peak_rate if kind == "arrivals" else ordered.peak_users
    return LoadAxis(kind=kind, name=NAMES[kind], unit=UNITS[kind], peak=peak)


def _group_text(plan: Plan, group: UserGroup | ArrivalGroup) -> str:
    """A group in one line."""
    weights = plan.weights_of(group)
    shares = [f"{w / sum(weights):.0%} {j.name}" for j, w in zip(plan.journeys, weights, strict=True) if w]
    counts = [f"{part.users} do only {name}" for name, part in group.mix.items() if not isinstance(part, float)]
    if counts and shares:
        shares[0] = f"the others {shares[0]}"
    if isinstance(group, ArrivalGroup):
        how = f"up to {group.profile.peak:g} arrivals per second ({group.law}), at most {group.at_most} there at a time"
    else:
        how = f"up to {group.profile.peak:g} users"
    each = f", {group.journeys_each} journeys each" if (group.journeys_each or 1) > 1 else ""
    region = f", from region {group.region}" if group.region else ""
    return f"{group.name}: {how}{each}{region}; {', '.join([*counts, *shares])}; they leave {group.leave}"


def _subject(plan: Plan, steps: tuple[int, ...] | None) -> str:
    return plan.steps[steps[0]][1].name if steps else "all steps"


def _corners(plan: Plan) -> list[tuple[float, float]]:
    """The planned line's corners in users: two for each level of constant load, the ends of each ramp."""
    return [(t, users) for t, users, _ in plan.planned.corners()]
