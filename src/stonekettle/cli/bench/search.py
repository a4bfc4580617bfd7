"""The search for the comfort limit against systems whose truth is known, in virtual time: how near it comes, how often
its interval holds the truth, and in how much of the time of stairs that say it as precisely."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from random import Random

import numpy as np

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.conditions import Case, make
from stonekettle.cli.bench.truth import Judged, share, true_comfort
from stonekettle.core import analysis
from stonekettle.core.load_profile import LoadProfile, Segment, Target
from stonekettle.core.objectives import ComfortLimit, Objective, comfort_limit
from stonekettle.core.orders import Order, Ordered, as_planned, with_order
from stonekettle.core.search import Bounds, Go, Over, Search
from stonekettle.core.types import Declined
from stonekettle.practice.twin import Twin, simulate

PLAIN = {"ordinary": 16, "few users": 8, "nearly tied": 8, "think times": 8}
UNSEEN = {"pool without metrics": 10, "lock": 10}
QUICK = 8
"""Of so many systems one is taken for a quick look."""
WITHIN_S, LOOK_S, STAIR_S = 420.0, 2.0, 60.0
STAIRS = (4, 6, 8, 11, 15, 20, 28)
"""Up to the limit; two more lie beyond it."""


@dataclass(frozen=True)
class Outcome:
    """One search beside the truth: how long it took (s), what came of it, and how long stairs take that say it as
    precisely: as the product reads them, and by interpolation between their levels."""

    kind: str
    seconds: float
    judged: Judged | None
    stairs_s: float
    interpolated_s: float


def measure(*, quick: bool) -> list[Figure]:
    """Over 60 random systems, a third of them with an unmetered pool or a lock (an eighth of them with ``quick``)."""
    jobs = [(kind, seed) for kind, count in {**PLAIN, **UNSEEN}.items() for seed in range(count)]
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        outcomes = list(pool.map(examine, jobs[::QUICK] if quick else jobs))
    return figures_of(outcomes)


def examine(job: tuple[str, int]) -> Outcome:
    """Search the limit of one system."""
    case = make(*job)
    seconds, over = play(case, bounds_of(case), case.seed + 1)
    real = true_comfort(case, over.found.value if over.found else case.profile.peak)
    judged = Judged.of(over.found, real) if over.found and real else None
    return Outcome(case.kind, seconds, judged, *_stairs_s(case, real or case.profile.peak, judged))


def bounds_of(case: Case) -> Bounds:
    """What a planner would say who knows the limit within a factor of six, and begins light."""
    random, users = Random(f"bounds-{case.kind}-{case.seed}"), case.real.users or case.profile.peak
    return Bounds(max(1.0, round(users * random.uniform(0.02, 0.08))), round(users * random.uniform(2, 6)), WITHIN_S)


def play(case: Case, bounds: Bounds, seed: int) -> tuple[float, Over]:
    """A search in virtual time: how long it took (s), and how it ended."""
    twin = Twin(case.config, case.journeys, seed=seed)
    search = Search(bounds, [Objective(1, "response", case.goal_s, 95.0)])
    ordered, now, told = Ordered(()), 0.0, search.first()
    while True:
        ordered = with_order(ordered, Order(len(ordered.orders) + 1, now, {"everyone": Target.steady(told.load)}))
        found: object = None
        while not isinstance(found, Go):
            now += LOOK_S
            twin.follow(ordered, now)
            if now < ordered.orders[-1].at_s + search.least_s:
                continue
            found = search.look(twin.collected(), ordered)
            if isinstance(found, Over):
                return now, found
        told = found


def _stairs_s(case: Case, real: float, wanted: Judged | None) -> tuple[float, float]:
    """How long the shortest stairs take whose interval is as narrow (s), read by the analysis, and by interpolation."""
    by_analysis = by_interpolation = None
    length = 0.0
    goal = Objective(1, "response", case.goal_s, 95.0)
    for stairs in STAIRS if wanted is not None else ():
        step = max(1, round(real / stairs))
        if step == 1 and length:
            break
        top = step * (round(real / step) + 2)
        profile = LoadProfile((Segment.climb(step, top, step, STAIR_S),))
        run = simulate(case.config, case.journeys, profile, seed=case.seed + 50)
        found = analysis.analyse(run, as_planned(profile), [goal], 0.05)
        length = profile.duration_s
        if by_analysis is None and _is_as_narrow(found.comfort, real, wanted):
            by_analysis = length
        if _is_as_narrow(comfort_limit(run, found.levels, [goal]), real, wanted):
            by_interpolation = length
            break
    return by_analysis or length, by_interpolation or length


def _is_as_narrow(found: ComfortLimit | Declined, real: float, wanted: Judged | None) -> bool:
    if wanted is None or not isinstance(found, ComfortLimit) or found.status != "found" or found.load is None:
        return False
    return (found.load.high - found.load.low) / real <= wanted.width


def figures_of(outcomes: Sequence[Outcome]) -> list[Figure]:
    """The table of figures beside their targets."""
    plain = [o for o in outcomes if o.kind in PLAIN]
    unseen = [o for o in outcomes if o.kind in UNSEEN]
    judged = [o.judged for o in outcomes if o.judged is not None]
    errors = np.percentile([j.error for j in judged], [50, 90]) if judged else np.array([np.inf, np.inf])
    return [
        Figure(
            "error of the limit, median / p90",
            f"{errors[0]:.1%} / {errors[1]:.1%} (n {len(judged)})",
            "at most 3 % / 12 %",
            bool(errors[0] <= 0.03 and errors[1] <= 0.12),
        ),
        share("its interval holds the truth", [j.covered for j in judged], 0.85, 1.0),
        Figure("half width, median", f"{np.median([j.width for j in judged]) / 2 if judged else np.nan:.1%}", "", None),
        share("found within 7 min", [o.judged is not None for o in outcomes], 0.9, 1.0),
        _spent("plain, stairs interpolated", [(o.seconds, o.interpolated_s) for o in plain if o.judged], 0.45),
        _spent("unseen, stairs interpolated", [(o.seconds, o.interpolated_s) for o in unseen if o.judged], 0.65),
        _spent("plain, stairs analysed", [(o.seconds, o.stairs_s) for o in plain if o.judged], None),
        _spent("unseen, stairs analysed", [(o.seconds, o.stairs_s) for o in unseen if o.judged], None),
    ]


def _spent(name: str, pairs: Sequence[tuple[float, float]], most: float | None) -> Figure:
    """Seconds beside those of stairs as precise."""
    if not pairs:
        return Figure(f"time, {name}", "(n 0)", "", None)
    value = float(np.median([own / stairs for own, stairs in pairs]))
    text = f"{value:.2f} ({np.median([own for own, _ in pairs]):.0f} s, n {len(pairs)})"
    return Figure(f"time, {name}", text, f"at most {most}" if most else "", value <= most if most else None)
