"""What load a run will make from here on, and what would become of it if somebody wished for something.

Played by the course itself from where it stands, so that what is shown before a wish is what will be ordered after it.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from stonekettle.core.orders import Ordered
from stonekettle.engine.course import Course, Mode
from stonekettle.engine.script import GroupTerms
from stonekettle.engine.searching import searcher_of
from stonekettle.engine.signals import Wish
from stonekettle.engine.strategies import Guide, Profile
from stonekettle.plan.models import Plan


@dataclass(frozen=True)
class Foreseen:
    """The orders given and to come; ``endless`` where the load goes on until somebody ends it, or a search does.
    ``refused`` says why a wish cannot be met, ``said`` what would be told of it."""

    ordered: Ordered
    endless: bool
    mode: Mode
    said: str = ""
    refused: str = ""


def foresee(
    plan: Plan, orders: Ordered, standing: Mapping[str, Any], at_s: float = 0.0, wish: Wish | None = None
) -> Foreseen:
    """What comes after the ``orders`` of a run whose course stands so (:meth:`course.Course.standing`), if ``wish`` is
    met at ``at_s``."""
    told = standing["profile"]
    searcher = searcher_of(plan)
    guide: Guide = Profile.at(plan.planned, told) if searcher is None else searcher
    course = Course.at(guide, orders, [GroupTerms.of(plan, group) for group in plan.people], standing)
    said = ""
    if wish is not None:
        soon = course.soonest(at_s)
        refused = course.refusal(soon, wish)
        if refused is not None:
            return Foreseen(orders, course.ending is None, course.mode, refused=refused)
        said = course.meet(soon, wish)
    if searcher is None and course.mode is Mode.PROFILE:
        course.follow(math.inf)
    return Foreseen(course.orders, course.ending is None, course.mode, said)
