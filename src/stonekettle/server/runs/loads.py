"""The load of a run as its page shows it: what was ordered, what is still to come, and who it is made of."""

from __future__ import annotations

import time

from ninja import Schema

from stonekettle.engine.foreseeing import Foreseen
from stonekettle.engine.lifecycle import ENDED
from stonekettle.plan.models import Plan
from stonekettle.server.experiments.outline import ProfileOutline, profile_of
from stonekettle.server.runs import steering
from stonekettle.server.runs.models import Run

AHEAD_S = 60.0
"""A load that has no end is drawn so far beyond now."""


class People(Schema):
    """People that can be steered: a group, its region, and whether it is counted in arrivals per second."""

    name: str
    region: str
    arrives: bool


def people_of(plan: Plan) -> list[People]:
    return [People(name=group.name, region=group.region, arrives=group.arrives) for group in plan.people]


def of(run: Run) -> ProfileOutline | None:
    """The load as it was ordered, and while the run is under way as it will go on; None where that is as planned."""
    if run.run_state in ENDED:
        return profile_of(run.ordered)
    if run.plan.search is not None:
        so_far = run.ordered
        drawn = profile_of(so_far if so_far.orders else run.plan.planned)
        return drawn.model_copy(update={"at_most": True, "duration_s": run.plan.planned.duration_s})
    seen = steering.foreseen(run)
    return None if seen is None else drawn_of(run, seen)


def drawn_of(run: Run, seen: Foreseen) -> ProfileOutline:
    """What is foreseen of a run, as a line."""
    until = time.time() - (run.begun_at or 0.0) + AHEAD_S if seen.endless else 0.0
    return profile_of(seen.ordered, until).model_copy(update={"endless": seen.endless})
