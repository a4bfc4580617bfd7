"""Capacity plans for random systems: whether they hold with an instance lost, and what they cost, in virtual time."""

from __future__ import annotations

import math
import os
import time
from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from random import Random
from statistics import mean, median

import numpy as np

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.conditions import Case, make
from stonekettle.core.analysis import analyse
from stonekettle.core.capacity import Planner, Terms, Unplanned
from stonekettle.core.known import Known, known
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.objectives import Objective
from stonekettle.core.orders import as_planned
from stonekettle.core.serving import Peak, Serving
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.twin import Twin, simulate

SYSTEMS = 200
KINDS = ("ordinary", "mixes", "think times", "far", "nearly tied", "heavy tails", "shared cpus, fork and join", "slow")
CHECKED_STEPS = 40_000
LEAST_HOLD, MOST_DEARER, QUICK_S = 0.9, 0.12, 2.0


@dataclass(frozen=True)
class Planned:
    """A system, whether there was a plan, whether it and the plan by point estimates held, and their costs; how long
    the plan took (s)."""

    kind: str
    number: int
    why_not: str
    holds: bool = False
    point_holds: bool = False
    cost: float = 0.0
    point_cost: float = 0.0
    took_s: float = 0.0
    worst: float = 0.0


def measure(*, quick: bool) -> list[Figure]:
    systems = 16 if quick else SYSTEMS
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        return figures_of(list(pool.map(partial(examine, point=not quick), range(systems), chunksize=4)))


def examine(number: int, *, point: bool = True) -> Planned:
    """Measure a system, plan it, and play the plan at its peak with the loss that strains it most; the plan by
    ``point`` estimates too."""
    kind = KINDS[number % len(KINDS)]
    random = Random(number)
    case = _in_instances(make(kind, 500 + number), random)
    told = _measured(case, number)
    if told is None:
        return Planned(kind, number, "nothing known")
    goals = [
        Objective(k + 1, "response", random.uniform(1.2, 3) * float(np.quantile(step.light_s, 0.95)), 95, (k,))
        for k, step in enumerate(told.system.steps)
        if step.share > 0
    ]
    peak = Peak("users", max(2, round((case.real.users or case.profile.peak) * random.uniform(1, 3))))
    prices = {c.name: random.uniform(0.05, 0.5) for c in case.config.components}
    begun = time.perf_counter()
    planner = Planner(Serving(told.system, goals), Terms(peak, prices))
    found = planner.plan()
    took_s = time.perf_counter() - begun
    if isinstance(found, Unplanned):
        return Planned(kind, number, found.why, took_s=took_s)
    by_point = Planner(Serving(told.system, goals, draws=1), Terms(peak, prices))
    pointed = by_point.plan()
    assert not isinstance(pointed, Unplanned)  # what holds in most worlds holds in the likeliest
    worst = _worst(case, planner, found, peak, goals, number)
    point_worst = _worst(case, by_point, pointed, peak, goals, number) if point else math.nan
    return Planned(
        kind,
        number,
        "",
        worst <= 1,
        point_worst <= 1,
        planner.cost(found),
        by_point.cost(pointed),
        took_s,
        worst,
    )


def _in_instances(case: Case, random: Random) -> Case:
    """The same system with each component's processors in instances of one to four."""
    components = []
    for component in case.config.components:
        each = random.choice([n for n in (1, 2, 3, 4) if component.cpus % n == 0])
        components.append(replace(component, cpus=each, instances=component.cpus // each))
    return replace(case, config=replace(case.config, components=tuple(components)))


def _measured(case: Case, number: int) -> Known | None:
    run = simulate(case.config, case.journeys, case.profile, seed=number)
    analysis = analyse(run, as_planned(case.profile), [], 0.05)
    instances = {c.name: c.instances for c in case.config.components}
    return known(analysis, [cell.step for cell in run.cells], instances)


def _worst(
    case: Case, planner: Planner, counts: Sequence[int], peak: Peak, goals: Sequence[Objective], number: int
) -> float:
    """The largest 95th percentile over its goal, as the planned system with its worst loss is played."""
    config: PracticeConfig = case.config
    for name, count in zip(planner.parts, planner.worst(counts), strict=True):
        config = config.with_component(name, instances=count)
    users = round(peak.value)
    think_s = float(np.average([s.think.mean_s for j in case.journeys for s in j.steps]))
    cycle_s = think_s + sum(goal.limit for goal in goals) / len(goals)
    settle_s = max(5.0, 4 * cycle_s)
    seconds = settle_s + max(20.0, CHECKED_STEPS * cycle_s / users)
    twin = Twin(config, case.journeys, seed=9_000 + number)
    twin.run(as_planned(LoadProfile((Segment.hold(users, seconds),))))
    requests = twin.requests()
    settled = requests.start_s > settle_s
    ratios = []
    for goal in goals:
        assert goal.steps is not None  # each is of one step
        own = requests.response_us[settled & np.isin(requests.cell, goal.steps)]
        if own.size >= 100:
            ratios.append(float(np.percentile(own, goal.percent)) / 1e6 / goal.limit)
    return max(ratios, default=math.inf)


def figures_of(planned: Sequence[Planned]) -> list[Figure]:
    made = [one for one in planned if not one.why_not]
    holds = mean(one.holds for one in made)
    dearer = mean(one.cost / one.point_cost for one in made) - 1
    slowest = max(one.took_s for one in planned)
    pointed = mean(one.point_holds for one in made)
    figures = [
        Figure("plans hold with an instance lost", f"{holds:.1%} of {len(made)}", "90 %", holds >= LEAST_HOLD),
        Figure("dearer than by point estimates, mean", f"{dearer:.1%}", "12 %", dearer <= MOST_DEARER),
        Figure("slowest plan", f"{slowest:.2f} s", "2 s", slowest < QUICK_S),
        Figure("  median", f"{median(one.took_s for one in planned):.2f} s", "", None),
        Figure("  plans by point estimates hold", f"{pointed:.1%}", "", None),
    ]
    for kind in KINDS:
        own = [one for one in made if one.kind == kind]
        if own:
            told = f"{sum(one.holds for one in own)} of {len(own)}"
            far = max((one.worst for one in own), default=0.0)
            figures.append(Figure(f"  {kind}", told, f"worst at {far:.2f} of its goal", None))
    reasons = Counter(one.why_not for one in planned if one.why_not)
    told = ", ".join(f"{why} {count}" for why, count in reasons.items()) or "none"
    figures.append(Figure("  no plan", told, "", None))
    return figures
