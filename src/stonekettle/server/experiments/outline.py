"""A plan as the screens show it."""

from __future__ import annotations

from ninja import Schema

from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.quantities import format_duration
from stonekettle.plan.secrecy import hidden
from stonekettle.report import sentences

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


class SystemOutline(Schema):
    name: str
    base_url: str
    components: list[ComponentOutline]


class ProfileOutline(Schema):
    """The planned load: corners of the line (``t`` in s, ``users``), and its levels."""

    duration_s: float
    peak_users: float
    t: list[float]
    users: list[float]
    levels: list[LevelOutline]


class GoalOutline(Schema):
    """A response time objective as a line on the plate; ``limit_s`` in seconds."""

    label: str
    limit_s: float


class PlanOutline(Schema):
    name: str
    question: str
    system: SystemOutline
    journeys: list[JourneyOutline]
    feeds: list[str]
    profile: ProfileOutline
    objectives: list[str]
    goals: list[GoalOutline]
    error_limit: float
    advice: list[str]


def of(plan: Plan) -> PlanOutline:
    """The outline of a checked plan."""
    total = sum(journey.weight for journey in plan.journeys)
    goals = document.core_objectives(plan)
    texts = [sentences.objective_text(goal, plan) for goal in goals]
    by_step: dict[str, list[str]] = {}
    for goal, text in zip(plan.objectives, texts, strict=True):
        by_step.setdefault(goal.step or "", []).append(text)
    profile = plan.profile
    corners = _corners(plan)
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
        feeds=[f"{feed.name}: {len(feed)} rows of {', '.join(feed.columns)}" for feed in plan.feeds],
        profile=ProfileOutline(
            duration_s=profile.duration_s,
            peak_users=profile.peak_users,
            t=[t for t, _ in corners],
            users=[users for _, users in corners],
            levels=[
                LevelOutline(start_s=level.start_s, end_s=level.end_s, users=level.users, moving=level.moving)
                for level in profile.levels()
            ],
        ),
        objectives=texts,
        goals=[
            GoalOutline(label=f"{goal.percent:g} % of {_subject(plan, goal.steps)}", limit_s=goal.limit)
            for goal in goals
            if goal.kind == "response"
        ],
        error_limit=plan.error_limit,
        advice=list(document.advice(plan)),
    )


def sketch(plan: Plan) -> list[Corner]:
    """The planned load in few corners, for a small picture."""
    corners = list(dict.fromkeys(_corners(plan)))
    step = max(1, len(corners) // MOST_CORNERS)
    return [Corner(t=t, users=users) for t, users in [*corners[::step], *corners[-1:]]]


def _subject(plan: Plan, steps: tuple[int, ...] | None) -> str:
    return plan.steps[steps[0]][1].name if steps else "all requests"


def _corners(plan: Plan) -> list[tuple[float, float]]:
    """The planned line's corners: two for each level of constant load, the ends of each ramp."""
    corners: list[tuple[float, float]] = []
    start = 0.0
    for segment in plan.profile.segments:
        end = start + segment.duration_s
        if segment.stairs == 0:
            corners += [(start, segment.start_users), (end, segment.end_users)]
        else:
            width = segment.duration_s / segment.stairs
            for stair in range(segment.stairs):
                at = start + stair * width
                users = plan.profile.users_at(at + width / 2)
                corners += [(at, users), (at + width, users)]
        start = end
    return corners
