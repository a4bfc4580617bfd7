"""What can be said while a run still goes on, so that its end will not say otherwise?

Of a run under way only the levels that are over count. What the analysis claims of them stands behind further gates:
a limit is told once levels beyond it have missed it too, a resource that would be full first once its line is known
well. Everything else is left for later: a level more may change it.
"""

from __future__ import annotations

from dataclasses import dataclass

from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import Cause, LimitingResource
from stonekettle.core.objectives import ComfortLimit, ObjectiveResult
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Estimate

MISSED_LEVELS = 2
"""So many levels beyond a limit must have missed it."""
ROOM_LEVELS = 2
"""Of fewer it is not to be told whether throughput grew."""
NEXT_LEVELS = 3
NEXT_BUSY = 0.3
NEXT_WIDTH = 1.3
"""A resource that would be full first is told from so many levels on, once it is so busy, and the load at which it
would be is known within such a ratio."""


@dataclass(frozen=True)
class Left:
    """An objective that is missed from ``load`` on, at every level so far."""

    objective: int
    load: Estimate


@dataclass(frozen=True)
class Next:
    """The metered resource that would be full first, and at which load; it is ``busy`` so much now."""

    resource: str
    load: Estimate
    busy: float


@dataclass(frozen=True)
class Living:
    """What stands so far. ``saturated`` is the saturation point, ``limiting`` the cause and resource of it; ``holds``
    is the load up to which every objective has held, ``room`` that up to which throughput grew."""

    levels: int
    left: tuple[Left, ...] = ()
    holds: float | None = None
    saturated: Estimate | None = None
    peaked: bool = False
    limiting: tuple[Cause, str] | None = None
    room: float | None = None
    next: Next | None = None


def so_far(analysis: Analysis) -> Living:
    """What may be said of a run under way, from the analysis of its levels that are over."""
    comfort, point, limiting = analysis.comfort, analysis.saturation, analysis.limiting
    left: tuple[Left, ...] = ()
    holds = None
    if isinstance(comfort, ComfortLimit):
        left = tuple(
            Left(result.objective.number, result.load)
            for result in comfort.results
            if result.load is not None and _for_good(result)
        )
        holds = comfort.tested if comfort.status == "holds" else None
    saturated = room = following = None
    named: tuple[Cause, str] | None = None
    peaked = False
    if isinstance(point, Saturation):
        if point.status in ("reached", "peaked"):
            saturated, peaked = point.load, point.status == "peaked"
            if isinstance(limiting, LimitingResource) and limiting.cause not in ("none", "generator"):
                named = (limiting.cause, limiting.resource.key if limiting.resource else "")
        elif point.status == "not reached" and len(analysis.levels) >= ROOM_LEVELS:
            room = point.at_least
            following = _next(analysis, point)
    return Living(len(analysis.levels), left, holds, saturated, peaked, named, room, following)


def _for_good(result: ObjectiveResult) -> bool:
    """Whether enough levels beyond the limit have missed it."""
    assert result.load is not None
    beyond = sum(load > result.load.high for load in result.level_loads)
    return beyond >= MISSED_LEVELS


def _next(analysis: Analysis, point: Saturation) -> Next | None:
    ceiling = point.ceiling
    if ceiling is None or len(analysis.levels) < NEXT_LEVELS:
        return None
    if not 0 < ceiling.load.low <= ceiling.load.high <= NEXT_WIDTH * ceiling.load.low:
        return None
    busy = max((level.utilisation.get(ceiling.key, 0.0) or 0.0 for level in analysis.levels), default=0.0)
    return Next(ceiling.key, ceiling.load, busy) if busy >= NEXT_BUSY else None
