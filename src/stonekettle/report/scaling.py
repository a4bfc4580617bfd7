"""What a scaling experiment found, in words: how far adding brings something, what gives out next, and what is not
told."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from stonekettle.core import scaling as core
from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.scaling import FURTHEST, FURTHEST_UNMETERED, Cap, Law, Limit, Point, Scaled
from stonekettle.core.types import CoreInputError, Estimate
from stonekettle.plan.models import Plan
from stonekettle.plan.scaling import ScaledValue, Scaling
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import resource_text

BAND = 60
"""So many places along the axis a band is worked out at."""
MOST_LINES = 12
LAWS: dict[Law, str] = {
    "linear": "each brings as much as the first",
    "contention": "something that only one at a time can do (contention)",
    "coherency": "each costs every other one something (coherency)",
    "shared limit": "a limit that all share",
}
SURE = 0.9


@dataclass(frozen=True)
class Tried:
    """A run that counts: the value that it was made at, and its findings."""

    value: ScaledValue
    analysis: Analysis


@dataclass(frozen=True)
class Told:
    """What the runs tell: a point for each value tried that is a number, by which law, what other values would bring
    (``lines`` in whole steps, ``band`` all along), a limit ``ahead`` that only response times tell of, and ``why_not``
    where nothing is told beyond the points."""

    points: tuple[Point, ...]
    efficiency: tuple[Estimate | None, ...]
    caps: tuple[Cap, ...]
    laws: dict[Law, float]
    lines: tuple[core.Foretold, ...]
    band: tuple[core.Foretold, ...]
    faded_from: float | None
    told_to: float
    unmetered: tuple[str, ...]
    why_not: str
    ahead: Estimate | None = None


def of(plan: Plan, tried: Sequence[Tried]) -> Told:
    """What the runs of a plan with something scaled tell."""
    scaling = plan.scaling
    assert scaling is not None  # there are no values without
    scaled = scaling.component or ""
    limits: list[tuple[float, Limit]] = []
    for one in tried:
        limit, much = core.limit_of(one.analysis, scaled), one.value.much
        if isinstance(limit, Limit) and much is not None:
            limits.append((much, limit))
    points = core.points_of(limits)
    caps = core.caps_of([one.analysis for one in tried], scaled)
    unmetered = tuple(one.name for one in plan.system.components if not one.meters)
    efficiency = tuple(core.efficiency(point, points[0]) for point in points)
    bare = Told(points, efficiency, caps, {}, (), (), None, max((p.n for p in points), default=0.0), unmetered, "")
    if scaling.of not in ("instances", "size"):
        return _without(bare, "Laws tell how instances and sizes scale; of another setting they say nothing.")
    try:
        scaled_by = Scaled(points, caps, metered=not unmetered)
    except CoreInputError as error:
        return _without(bare, str(error).partition(": ")[2])
    first, most = points[0].n, points[-1].n
    band = [scaled_by.foretold(float(at)) for at in np.linspace(first, scaled_by.told_to, BAND)]
    return Told(
        points,
        efficiency,
        caps,
        scaled_by.laws,
        tuple(scaled_by.foretold(at) for at in _asked(scaling, first, most, scaled_by.told_to)),
        tuple(band),
        scaled_by.faded_from(),
        scaled_by.told_to,
        unmetered,
        "",
        scaled_by.ahead,
    )


def _without(bare: Told, why: str) -> Told:
    return Told(
        bare.points,
        bare.efficiency,
        bare.caps,
        {},
        (),
        (),
        None,
        bare.told_to,
        bare.unmetered,
        why[:1].upper() + why[1:],
    )


def _asked(scaling: Scaling, first: float, most: float, furthest: float) -> list[float]:
    """Values not tried that somebody may want: whole numbers between and beyond, no more than a table shows."""
    tried = {much for one in scaling.values if (much := one.much) is not None}
    whole = [float(k) for k in range(int(np.ceil(first)), int(furthest) + 1) if k not in tried]
    beyond = [k for k in whole if k > most]
    kept = beyond[:: max(1, -(-len(beyond) // (MOST_LINES // 2)))]
    if beyond and beyond[-1] not in kept:
        kept.append(beyond[-1])
    between = [k for k in whole if k < most]
    return sorted({*between[:: max(1, -(-len(between) // (MOST_LINES // 2)))], *kept})


def sentence(plan: Plan, told: Told, tried: Sequence[Tried], *, going: bool) -> str:
    """The answer in a sentence or two."""
    scaling = plan.scaling
    assert scaling is not None  # there are no values without
    if not tried:
        return "No value has been measured yet." if going else "No run tells a limit; each says below why not."
    reached = [point for point in told.points if not point.at_least]
    if not reached:
        return (
            "No run reached the limit of the system, so nothing tells what more of it brings: let the load go on to "
            "higher levels."
        )
    if len(reached) == 1 or not told.laws:
        return f"{_between(scaling, reached)}{'' if going else ' ' + told.why_not if told.why_not else ''}"
    last = reached[-1]
    grown = f"{_between(scaling, reached)} {_law(told)}"
    beyond = [one for one in told.lines if one.n > last.n]
    if not beyond or _met(told) is not None:
        return grown
    furthest = beyond[-1]
    if furthest.wide:
        sure = [one for one in beyond if not one.wide]
        if not sure:
            return (
                f"{grown} What {words(scaling, beyond[0].n)} would do, the data leave open "
                f"({_span(beyond[0].capacity)}): measure it, with more rounds if need be."
            )
        furthest = sure[-1]
    ahead = f"{words(scaling, furthest.n, capital=True)} would do {_told(furthest.capacity)}"
    return f"{grown} {ahead}; {_limit(scaling, furthest)}."


def _between(scaling: Scaling, reached: Sequence[Point]) -> str:
    first, last = reached[0], reached[-1]
    if first is last:
        return f"{words(scaling, first.n, capital=True)} does {_told(first.capacity)}."
    times = last.capacity.value / first.capacity.value
    return (
        f"{words(scaling, last.n, capital=True)} does {n.figure(times)} times what {words(scaling, first.n)} does: "
        f"{_told(last.capacity)}."
    )


def _law(told: Told) -> str:
    likely = max(told.laws, key=lambda law: told.laws[law])
    share = told.laws[likely]
    capped = _met(told)
    if capped is not None:
        return (
            f"{resource_text(capped.key)} is what limits it there, full at {n.rate(capped.rate)}: more brings nothing."
        )
    if told.ahead is not None:
        return (
            "Response times tell of something that no meter shows and only one step at a time can use, full at "
            f"{_told(told.ahead)}: no run has come to it."
        )
    if share < 0.6:
        return "Which law it follows the data do not settle."
    return f"By the data {LAWS[likely]} ({n.percent(share)} sure)."


def _met(told: Told) -> Cap | None:
    """The other component that was full with the most of it already."""
    last = told.points[-1]
    return next((cap for cap in told.caps if not last.at_least and cap.rate < 1.03 * last.capacity.value), None)


def _limit(scaling: Scaling, one: core.Foretold) -> str:
    what = f"{limit_words(scaling, one.limit)} gives out first there"
    return what if one.sure >= SURE else f"probably {what} ({n.percent(one.sure)})"


def limit_words(scaling: Scaling, limit: str) -> str:
    """What gives out."""
    if limit == "shared":
        return "a limit that no meter shows"
    return resource_text(limit) if limit else f"`{scaling.component}` itself"


def limited_by(analysis: Analysis) -> str:
    """What limited a run."""
    found = analysis.limiting
    if not isinstance(found, LimitingResource):
        return ""
    if found.resource is not None:
        return resource_text(found.resource.key)
    return {"none": "nothing yet", "unmetered": "something no meter shows"}.get(found.cause, found.cause)


def words(scaling: Scaling, amount: float, *, capital: bool = False) -> str:
    """So much of it: "8 × planner", "planner with 8 processors"."""
    told = n.amount(amount)
    if scaling.of == "instances":
        return f"{told} × `{scaling.component}`"
    if scaling.of == "size":
        return f"`{scaling.component}` with {told} processors"
    return f"{'The' if capital else 'the'} value {told}"


def limits(told: Told) -> list[str]:
    """What it cannot know, and how far it is told."""
    if told.why_not or not told.laws:
        return []
    far = FURTHEST_UNMETERED if told.unmetered else FURTHEST
    found = [f"Beyond {n.amount(told.told_to)}, {n.amount(far)} times the most that was measured, nothing is told."]
    if told.unmetered:
        named = ", ".join(f"`{name}`" for name in told.unmetered)
        found.append(f"No meter tells of {named}: it may give out before.")
    found.append("A lock or another limit that no meter shows is seen only once a run has met it.")
    return found


def _told(capacity: Estimate) -> str:
    return f"{n.rate(capacity.value)} ({_span(capacity)})"


def _span(capacity: Estimate) -> str:
    return f"{n.figure(capacity.low)} to {n.figure(capacity.high)}"
