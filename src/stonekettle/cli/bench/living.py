"""What is said of a run at half time, against what its end says: in every condition, in virtual time."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.conditions import CONDITIONS, make
from stonekettle.core import analysis
from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.living import Living, so_far
from stonekettle.core.objectives import ComfortLimit, Objective
from stonekettle.core.orders import Ordered, as_planned
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Estimate
from stonekettle.practice.twin import Twin

RUNS = 5
"""Of each condition: a hundred or so in all."""
AT_MOST = 0.03
MOMENTS = (0.35, 0.5, 0.65, 0.8)
"""Looked at as shares of the run; the second is half time."""
SLACK = 0.10
"""Two loads are the same within their intervals and so much."""


@dataclass(frozen=True)
class Said:
    """A sentence at a moment of a run, and whether its end said otherwise."""

    kind: str
    moment: float
    sentence: str
    contradicted: bool


def measure(*, quick: bool) -> list[Figure]:
    jobs = [(kind, seed) for seed in range(1 if quick else RUNS) for kind in CONDITIONS]
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        said = [one for found in pool.map(examine, jobs, chunksize=2) for one in found]
    return figures_of(said, len(jobs))


def examine(job: tuple[str, int]) -> list[Said]:
    """Play one run and look at it now and then."""
    case = make(*job)
    ordered = as_planned(case.profile)
    goals = [Objective(1, "response", case.goal_s, 95.0)]
    twin = Twin(case.config, case.journeys, seed=case.seed + 1)
    looks: list[tuple[float, Living]] = []
    for moment in MOMENTS:
        twin.follow(ordered, moment * case.profile.duration_s)
        given = Ordered(tuple(order for order in ordered.orders if order.at_s <= twin.now))
        looks.append((moment, so_far(analysis.analyse(twin.collected(), given, goals, 0.05))))
    twin.follow(ordered, case.profile.duration_s)
    end = analysis.analyse(twin.collected(), ordered, goals, 0.05)
    return [
        Said(case.kind, moment, sentence, wrong) for moment, living in looks for sentence, wrong in judge(living, end)
    ]


def judge(living: Living, end: Analysis) -> list[tuple[str, bool]]:
    """Each sentence, and whether the end contradicts it."""
    found: list[tuple[str, bool]] = []
    comfort, point, limiting = end.comfort, end.saturation, end.limiting
    results = {r.objective.number: r for r in comfort.results} if isinstance(comfort, ComfortLimit) else {}
    for left in living.left:
        result = results.get(left.objective)
        found.append(("left", result is None or result.load is None or not _same(left.load, result.load)))
    if living.holds is not None:
        at = comfort.load if isinstance(comfort, ComfortLimit) and comfort.status != "holds" else None
        found.append(("holds", at is not None and at.high * (1 + SLACK) < living.holds))
    shape = point if isinstance(point, Saturation) else None
    if living.saturated is not None:
        at = shape.load if shape is not None and shape.status in ("reached", "peaked") else None
        found.append(("saturated", at is None or not _same(living.saturated, at)))
    if living.limiting is not None:
        named = (
            (limiting.cause, limiting.resource.key if limiting.resource else "")
            if isinstance(limiting, LimitingResource)
            else None
        )
        found.append(("limiting", named != living.limiting))
    if living.room is not None:
        at = shape.load if shape is not None and shape.status in ("reached", "peaked") else None
        found.append(("room", at is not None and at.high * (1 + SLACK) < living.room))
    if living.next is not None:
        ceiling = shape.ceiling if shape is not None else None
        # Where something unmetered came first, what was said of the metered stands.
        other = ceiling is not None and ceiling.key != living.next.resource
        found.append(("next", other or (ceiling is not None and not _same(living.next.load, ceiling.load))))
    return found


def _same(a: Estimate, b: Estimate) -> bool:
    return a.low <= b.high * (1 + SLACK) and b.low <= a.high * (1 + SLACK)


def figures_of(said: Sequence[Said], runs: int) -> list[Figure]:
    half = [one for one in said if one.moment == MOMENTS[1]]
    wrong = sum(one.contradicted for one in half)
    ratio = wrong / len(half) if half else 0.0
    figures = [
        Figure("sentences at half time", f"{len(half)} in {runs} runs", "", None),
        Figure("contradicted by the end", f"{wrong} ({ratio:.1%})", "at most 3 %", ratio <= AT_MOST),
    ]
    for sentence in dict.fromkeys(one.sentence for one in said):
        own = [one for one in said if one.sentence == sentence]
        off = Counter(one.kind for one in own if one.contradicted)
        told = ", ".join(f"{kind} {count}" for kind, count in off.most_common(4))
        figures.append(Figure(f"  {sentence}", f"{sum(off.values())} of {len(own)}", told, None))
    for moment in MOMENTS:
        own = [one for one in said if one.moment == moment]
        share = sum(one.contradicted for one in own) / len(own) if own else 0.0
        figures.append(Figure(f"  at {moment:.0%} of the run", f"{share:.1%} of {len(own)}", "", None))
    return figures
