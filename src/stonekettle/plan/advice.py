"""What would keep a run from answering, though its plan can run?"""

from __future__ import annotations

from collections.abc import Sequence

from stonekettle.core.levels import MIN_HOLD_S
from stonekettle.core.load import UNITS, LoadKind
from stonekettle.core.orders import PlannedLevel
from stonekettle.plan.feed import Feed, columns_of
from stonekettle.plan.load import ArrivalGroup, Fixed, UserGroup
from stonekettle.plan.models import Plan
from stonekettle.plan.quantities import format_duration

MIN_LEVELS_FOR_A_CLAIM = 4
CHECK_AT = 0.25
"""A check level has such a share of the highest load: it was there early, and there is enough to compare."""
SHORT_TURN_S = 40.0


def of(plan: Plan) -> tuple[str, ...]:
    """What would keep the run from answering, though it can run."""
    levels = plan.planned.levels()
    found = []
    if plan.limit_s is not None and plan.limit_s < plan.planned.duration_s:
        found.append(f"Its budget ends it after {format_duration(round(plan.limit_s, 1))}, before its load does.")
    if len(levels) < MIN_LEVELS_FOR_A_CLAIM and plan.search is None and plan.candidates is None:
        found.append(
            f"The profile has {len(levels)} level(s); a saturation point needs at least "
            f"{MIN_LEVELS_FOR_A_CLAIM}, half of them beyond it."
        )
    if plan.candidates is not None and min((level.duration_s for level in levels), default=0.0) < SHORT_TURN_S:
        found.append(
            f"Turns have levels under {SHORT_TURN_S:.0f} s: once their start is left out, little remains to compare."
        )
    if plan.timeline:
        found.append("A rehearsal plays its load, and leaves out what the timeline changes of the system.")
    short = [level for level in levels if level.duration_s < MIN_HOLD_S]
    if short:
        found.append(f"{len(short)} level(s) are held under 10 s and will not be analysed.")
    found += _no_return(levels, plan.planned.load_kind)
    found += [line for feed in plan.feeds if (line := _scarcity(plan, feed))]
    found += same_data(plan)
    if not plan.meters:
        found.append("No component has a meter: the run cannot name a limiting resource.")
    return tuple(found)


def same_data(plan: Plan) -> list[str]:
    """Where every user sends the same values, which the server may answer from a cache."""
    found = [
        f"The feed {feed.name!r} has one row: every user sends the same, and the server's caches would "
        "flatter the result. Give it more rows."
        for feed in plan.feeds
        if len(feed) == 1
    ]
    for journey in plan.journeys:
        same = sorted(set(journey.sample) - columns_of(plan.feeds))
        if same:
            found.append(
                f"Every user of {journey.name!r} sends the same {', '.join(same)}: the server's caches would "
                "flatter the result. Add a feed with such columns."
            )
    return found


def _no_return(levels: Sequence[PlannedLevel], kind: LoadKind) -> list[str]:
    """That a climb ends at its top, where nothing tells whether the system stayed the same."""
    loads = [level.users + level.rate for level in levels]
    if len(levels) < MIN_LEVELS_FOR_A_CLAIM or any(level.moving for level in levels) or loads[-1] < max(loads):
        return []
    amount = CHECK_AT * loads[-1]
    told = f"{max(1, round(amount))}" if kind == "users" else f"{amount:.3g}"
    return [
        f"It climbs and does not come back: a check level at the end, {told} {UNITS[kind]} for "
        f"{format_duration(levels[-1].duration_s)}, would tell whether the system stayed the same. Add it as a hold."
    ]


def _scarcity(plan: Plan, feed: Feed) -> str | None:
    """What too few rows in a feed would do to the run."""
    rows, peak = len(feed), _people_in_all(plan)
    if rows == 1:
        return None  # of that one all users share more is said
    if feed.take == "one per user" and rows < peak:
        then = "users retire once it is used up" if feed.end == "retire" else "several users share a row"
        return f"The feed {feed.name!r} has {rows} rows for {peak:.0f} users: {then}."
    if feed.take == "in order" and feed.end == "retire":
        begun = _journeys_begun(plan)
        if rows < max(peak, begun):
            return (
                f"The feed {feed.name!r} has {rows} rows, and up to {max(peak, begun):.0f} journeys may begin: "
                "users retire once it is used up."
            )
    return None


def _people_in_all(plan: Plan) -> float:
    """So many different people come, if nobody is turned away."""
    return sum(group.profile.area if group.arrives else group.profile.peak for group in plan.people)


def _journeys_begun(plan: Plan) -> float:
    """About so many journeys begin if responses take no time; users who do not wait are left out."""
    begun = 0.0
    for group in plan.people:
        if group.arrives:
            begun += group.profile.area * (group.journeys_each or 1)
        elif cycle := _cycle_s(plan, group):
            begun += group.profile.area / cycle
    return begun


def _cycle_s(plan: Plan, group: UserGroup | ArrivalGroup) -> float:
    """The mean think time of a journey of the group."""
    weights = plan.weights_of(group)
    for journey, part in group.mix.items():
        if isinstance(part, Fixed):
            weights = tuple(w + part.users * (j.name == journey) for w, j in zip(weights, plan.journeys, strict=True))
    thinks = [sum(plan.think_of(step).mean for step in journey.active) for journey in plan.journeys]
    return sum(w * think for w, think in zip(weights, thinks, strict=True)) / sum(weights)
