"""Do the generators have room for an experiment's load? By what they did for their share of a core in earlier runs."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass

from django.conf import settings

from stonekettle.plan.models import Plan
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Generator, Run

USED = 0.7
"""Of a core: with more, what a generator measures is blurred."""
LOOK_BACK = 20
LEAST_RATE = 5.0
"""Steps per second of a run below which a generator's own business is most of what it does."""


@dataclass(frozen=True)
class Capacity:
    """A generator does so many requests per second with :data:`USED` of a core, by what ``run`` measured."""

    rate: float
    run: int


def capacity() -> Capacity | None:
    """By the run of the last ones in which they had most to do; None where none tells."""
    runs = Run.objects.there().filter(simulated=False, result__isnull=False).order_by("-pk")
    found: list[tuple[float, Capacity]] = []
    for run in runs[:LOOK_BACK]:
        analysis = findings_of(run)
        count = Generator.objects.filter(run=run).count()
        if analysis is None or not analysis.levels or not count or analysis.measuring.cpu <= 0:
            continue
        totals = (run.result or {})["totals"]
        requests_per_step = totals["requests"] / (totals.get("steps") or totals["requests"] or 1)
        steps = max(level.completion_rate for level in analysis.levels)
        if steps >= LEAST_RATE:
            each = steps * requests_per_step / count / analysis.measuring.cpu * USED
            found.append((analysis.measuring.cpu, Capacity(each, run.pk)))
    return max(found, key=lambda pair: pair[0])[1] if found else None


def asked_of_each(plan: Plan) -> float:
    """How many requests per second a generator is asked for at most, where answers take no time; infinite where
    people do not think."""
    by_region: defaultdict[str, float] = defaultdict(float)
    for group in plan.people:
        steps, think_s = plan.round_of(group)
        requests = steps * _requests_per_step(plan)
        if group.arrives:
            by_region[group.region] += group.profile.peak * requests * (group.journeys_each or 1)
        else:
            by_region[group.region] += group.profile.peak * requests / think_s if think_s else math.inf
    return max(by_region.values(), default=0.0) / settings.GENERATORS


def _requests_per_step(plan: Plan) -> float:
    steps = [step for _, step in plan.steps]
    return sum(1 + len(step.accompanying) for step in steps) / len(steps) if steps else 1.0
