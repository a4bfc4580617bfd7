"""Who else could have set the limit, and what speaks for and against each?

:mod:`bottleneck` decides by ordered rules. Here every candidate is held against the same observations, after the
bottleneck analysis of Denning & Buzen (1978): how full it is at the top, how much its demand would let through
(utilisation law), whether it was the first to fill, whether work queues for it, whether response time follows it, and
how much of a response was spent there. Weights order the candidates; they are no probabilities.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import (
    BUSY,
    CEILING_REACH,
    SHORT,
    STRONG,
    Cause,
    LimitingResource,
    ResourceEvidence,
)
from stonekettle.core.levels import POOL_FULL, POOL_WAITING, Level
from stonekettle.core.run_data import SOFTWARE
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Declined, Reason

Kind = Literal["hardware", "pool", "overload", "network", "contention", "unmetered", "generator"]
Claim = Literal[
    "full", "near its end", "has room",
    "carries no more", "could carry more",
    "filled first", "filled later",
    "queue grew", "nobody waits", "behind it is full",
    "response follows", "response does not follow",
    "most of the time", "little of the time",
    "works in vain",
    "falls", "does not fall",
    "something is full", "nothing is full", "no limit", "no meter",
    "on the wire", "not on the wire",
    "late", "on time", "out of processor", "processor to spare",
]  # fmt: skip
GREW = 3.0
FOLLOWS, DOES_NOT_FOLLOW = 0.7, 0.3
MOST, LITTLE = 0.5, 0.1
GENERATOR_BUSY = 0.85
CLOSE = 2.0
"""Suspects whose weights differ by no more are not told apart."""


@dataclass(frozen=True)
class Point:
    """An observation that speaks for a suspect, or against it with a negative ``weight``, with the ``figures`` it is
    about."""

    claim: Claim
    weight: float
    figures: tuple[float, ...] = ()


@dataclass(frozen=True)
class Suspect:
    """Something that could have set the limit: a resource by its ``key``, or a kind alone. ``named`` is the one that
    the findings name."""

    kind: Kind
    key: str
    points: tuple[Point, ...]
    named: bool = False

    @property
    def weight(self) -> float:
        return sum(point.weight for point in self.points)


@dataclass(frozen=True)
class Seen:
    """What is known beside the findings: the share of a response at the top that was spent in each component, how much
    of it on the way (sending and receiving, connecting), and which components have no meter."""

    shares: Mapping[str, float] = field(default_factory=dict)
    on_the_wire: float | None = None
    unmetered: Sequence[str] = ()


def rank(analysis: Analysis, seen: Seen) -> tuple[Suspect, ...]:
    """All that could have set the limit, the one that the findings name first, then by what speaks for them.

    Of a run that its generators limited they are the only suspect: about the system it proves nothing."""
    found = analysis.limiting
    point = analysis.saturation if isinstance(analysis.saturation, Saturation) else None
    generator = _generator(analysis)
    if isinstance(found, Declined):
        return (generator,) if found.reason is Reason.GENERATOR else ()
    if found.cause == "generator":
        return (generator,)
    named = found.resource.key if found.resource is not None else None
    suspects = [_resource(one, found, analysis.levels, seen) for one in found.evidence]
    if found.cause == "overload" and named is not None and found.in_vain is not None:
        vain = Point("works in vain", 3.0, (found.in_vain,))
        suspects = [
            Suspect("overload", one.key, (vain, *one.points), True) if one.key == named else one for one in suspects
        ]
    full = next((one.key for one in found.evidence if _is_full(one)), named)
    suspects += [
        _contention(point, full, found.cause),
        _unmetered(full, seen, found.cause),
        generator,
    ]
    if seen.on_the_wire is not None:
        suspects.append(_network(seen.on_the_wire))
    return tuple(sorted(suspects, key=lambda one: (not one.named, -one.weight)))


def undecided(ranked: Sequence[Suspect]) -> tuple[Suspect, Suspect] | None:
    """The first two, where what speaks for them does not tell them apart."""
    if len(ranked) < 2 or ranked[1].weight <= 0 or ranked[0].weight - ranked[1].weight > CLOSE:
        return None
    return ranked[0], ranked[1]


def _is_full(one: ResourceEvidence) -> bool:
    return one.utilisation >= (POOL_FULL if one.kind in SOFTWARE else BUSY)


def _resource(one: ResourceEvidence, found: LimitingResource, levels: Sequence[Level], seen: Seen) -> Suspect:
    pool = one.kind in SOFTWARE
    points = [_use(one), *_order(one, found), *_queue(one, levels)]
    if not pool:
        points += _ceiling(one, levels)
    elif _is_full(one):
        behind = [e for e in found.evidence if e.component == one.component and e.kind not in SOFTWARE]
        points += [Point("behind it is full", -3.0)] if any(map(_is_full, behind)) else []
    if (follows := one.response_correlation) is not None and math.isfinite(follows):
        if follows >= FOLLOWS:
            points.append(Point("response follows", 1.0, (follows,)))
        elif follows <= DOES_NOT_FOLLOW:
            points.append(Point("response does not follow", -1.0, (follows,)))
    points += _time(seen.shares.get(one.component))
    return Suspect("pool" if pool else "hardware", one.key, tuple(points), one == found.resource)


def _use(one: ResourceEvidence) -> Point:
    if _is_full(one):
        return Point("full", 3.0, (one.utilisation,))
    if one.utilisation >= STRONG:
        return Point("near its end", 1.0, (one.utilisation,))
    # The more room, the more speaks against it.
    return Point("has room", -3.0 + 2.5 * max(0.0, one.utilisation) / STRONG, (one.utilisation,))


def _ceiling(one: ResourceEvidence, levels: Sequence[Level]) -> list[Point]:
    """By the utilisation law a resource lets through 1/demand at the most."""
    ceiling = one.demand.ceiling if one.demand is not None else None
    reached = max((level.throughput for level in levels), default=0.0)
    if ceiling is None or reached <= 0:
        return []
    if ceiling.value <= CEILING_REACH * reached:
        return [Point("carries no more", 2.0, (ceiling.value, reached))]
    return [Point("could carry more", -1.0, (ceiling.value, reached))]


def _order(one: ResourceEvidence, found: LimitingResource) -> list[Point]:
    """Whether it was the first to fill as load grew."""
    if one.full_from is None:
        return []
    first = min(e.full_from for e in found.evidence if e.full_from is not None)
    if one.full_from <= first:
        return [Point("filled first", 2.0, (one.full_from,))]
    return [Point("filled later", -2.0, (one.full_from, first))]


def _queue(one: ResourceEvidence, levels: Sequence[Level]) -> list[Point]:
    told = [lv.waiting[one.key] for lv in levels if math.isfinite(lv.waiting.get(one.key, math.nan))]
    if one.waiting is None or not math.isfinite(one.waiting) or not told:
        return []
    light = min(told)
    if one.waiting >= POOL_WAITING and one.waiting > GREW * light:
        return [Point("queue grew", 1.0, (one.waiting, light))]
    return [Point("nobody waits", -1.0)] if one.waiting < LITTLE else []


def _time(share: float | None) -> list[Point]:
    if share is None:
        return []
    if share >= MOST:
        return [Point("most of the time", 2.0, (share,))]
    return [Point("little of the time", -1.0, (share,))] if share < LITTLE else []


def _contention(point: Saturation | None, full: str | None, cause: Cause) -> Suspect:
    fall = point.retrograde if point is not None else None
    points = [Point("falls", 3.0, (fall.drop, fall.peak_load)) if fall is not None else Point("does not fall", -2.0)]
    if cause == "none":
        points.append(Point("no limit", -2.0))
    else:
        points.append(Point("something is full", -1.0) if full is not None else Point("nothing is full", 1.0))
    return Suspect("contention", "", tuple(points), cause == "contention")


def _unmetered(full: str | None, seen: Seen, cause: Cause) -> Suspect:
    if cause == "none":
        points = [Point("no limit", -3.0)]
    else:
        points = [Point("something is full", -2.0) if full is not None else Point("nothing is full", 2.0)]
    if seen.unmetered:
        points.append(Point("no meter", 1.0))
    return Suspect("unmetered", "", tuple(points), cause == "unmetered")


def _network(share: float) -> Suspect:
    point = Point("on the wire", 3.0, (share,)) if share >= MOST else Point("not on the wire", -2.0, (share,))
    return Suspect("network", "", (point,))


def _generator(analysis: Analysis) -> Suspect:
    shift, cpu = analysis.measuring.shift, analysis.measuring.cpu
    found = analysis.limiting
    cause = None if isinstance(found, Declined) else found.cause
    points = [
        Point("late", 3.0, (shift,)) if shift > SHORT else Point("on time", -2.0, (shift,)),
        Point("out of processor", 2.0, (cpu,)) if cpu >= GENERATOR_BUSY else Point("processor to spare", -1.0, (cpu,)),
    ]
    if cause == "none" and shift > SHORT:
        points.append(Point("no limit", -2.0))
    return Suspect("generator", "", tuple(points), cause == "generator")
