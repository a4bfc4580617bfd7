"""Which of several plays of a rehearsal is kept, and what they found between them.

A run's limits owe something to chance, and so do those of one play. Of a few plays the one in the middle is kept: its
verdict is nearer to what most runs would find, and it is still what a single run looks like, intervals and all.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from stonekettle.core import analysis
from stonekettle.core.analysis import Analysis
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Estimate
from stonekettle.engine.rehearsal import Rehearsed
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.report import numbers as n


def read(plan: Plan, played: Rehearsed) -> Analysis:
    """What is found in a play by the objectives of ``plan``."""
    return analysis.analyse(
        played.twin.collected(),
        played.ordered,
        document.core_objectives(plan),
        plan.error_limit,
        [played.twin.requests()],
        promised=document.throughput_goals(plan),
    )


def middle(found: Sequence[Analysis]) -> int:
    """The place of the one in the middle by its comfort limit, then by where it saturates. What has no limit within
    the load counts as the highest; what says nothing of it is in the middle only where most say nothing."""
    return sorted(range(len(found)), key=lambda place: _key(found[place]))[len(found) // 2]


def words(found: Sequence[Analysis]) -> str:
    """That the one kept is the middle one of these, and how far apart their limits are; nothing of one by itself."""
    if len(found) < 2:
        return ""
    limits, loads = _spread("comfort limits", found, comfort_of), _spread("saturation", found, saturation_of)
    told = " and ".join(one for one in (limits, loads) if one)
    spread = f": they found {told}" if told else ""
    return f"It is the middle one of {len(found)} plays, each with its own chance{spread}."


def comfort_of(found: Analysis) -> Estimate | None:
    """The comfort limit, where there is one within the load."""
    return found.comfort.load if isinstance(found.comfort, ComfortLimit) else None


def saturation_of(found: Analysis) -> Estimate | None:
    """The load of the saturation point, where it was reached."""
    return found.saturation.load if isinstance(found.saturation, Saturation) else None


def _spread(name: str, found: Sequence[Analysis], limit_of: Callable[[Analysis], Estimate | None]) -> str:
    limits = [limit.value for one in found if (limit := limit_of(one)) is not None]
    if len(limits) < len(found):
        return ""
    return f"{name} from {n.amount(min(limits))} to {n.load(max(limits), found[0].load_kind)}"


def _key(found: Analysis) -> tuple[bool, float, float]:
    limit, load = (math.inf if one is None else one.value for one in (comfort_of(found), saturation_of(found)))
    return isinstance(found.comfort, ComfortLimit), limit, load
