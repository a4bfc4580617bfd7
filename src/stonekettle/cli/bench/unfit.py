"""Do claims stay true when the generator is unfit? Systems with known truth in virtual time, and loops
that are late, jitter, stall, or run out of their core."""

from __future__ import annotations

import math
import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from random import Random

from stonekettle.cli.bench import Figure, truth
from stonekettle.cli.bench.conditions import Case, Real, make
from stonekettle.core import analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.objectives import ComfortLimit, Objective
from stonekettle.core.orders import as_planned
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Estimate
from stonekettle.practice.twin import Twin
from stonekettle.practice.unfit import Blocked, Laborious, Loop

KIND = "ordinary"
RUNS_A_SYSTEM = 5
SMALL = 0.02
"""A claim that would be wrong by less must not be withheld."""
MOST_S = 1_200.0

Make = Callable[[Random, Real], Loop]


def _bursts(random: Random, least_s: float, most_s: float, every_s: float) -> Blocked:
    """A stretch of ``least_s`` to ``most_s`` about each ``every_s``."""
    found, at = [], random.uniform(0, every_s)
    while at < MOST_S:
        length = random.uniform(least_s, most_s)
        found.append((at, at + length))
        at += length + random.expovariate(1 / every_s)
    return Blocked(found)


def _rounds(length_s: Callable[[], float]) -> Blocked:
    """A loop that looks only between rounds of such lengths, one after the other."""
    found, at = [], 0.0
    while at < MOST_S:
        found.append((at, at := at + length_s()))
    return Blocked(found)


def _steady(random: Random, real: Real) -> Blocked:
    """A loop that looks so seldom that everything is 1 to 20 ms late on average."""
    period = 2 * random.uniform(0.001, 0.020)
    return _rounds(lambda: period)


def _laborious(share: float) -> Make:
    """A loop of which the system's limit would take this share of its core: two events a request."""
    return lambda random, real: Laborious(share / 2 / real.throughput)


PATTERNS: Mapping[str, Make] = {
    "steady 1–20 ms": _steady,
    "jitter to 150 ms": lambda random, real: _rounds(lambda: random.uniform(0, 0.150)),
    "10–50 ms each 0.5 s": lambda random, real: _bursts(random, 0.010, 0.050, 0.5),
    "50–300 ms each 3 s": lambda random, real: _bursts(random, 0.050, 0.300, 3.0),
    "0.5–2 s each 30 s": lambda random, real: _bursts(random, 0.5, 2.0, 30.0),
    "loop at 60 %": _laborious(0.6),
    "loop at 90 %": _laborious(0.9),
    "loop at 100 %": _laborious(1.0),
}
LIMITED = "loop that carries half"
"""Truly limited by its generator."""


@dataclass(frozen=True)
class Outcome:
    """What was said of one run. ``covered`` and ``needless`` (withheld though the claim would have been
    off by under 2 %) by claim; None where there was nothing to judge."""

    pattern: str
    covered: dict[str, bool | None]
    needless: dict[str, bool | None]
    generator: bool
    withheld: tuple[str, ...]


def measure(*, quick: bool) -> list[Figure]:
    """Coverage and withheld claims over 200 runs a pattern (40 with ``quick``)."""
    systems = 8 if quick else 40
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        comforts = list(pool.map(_true_comfort, range(systems)))
        jobs = [
            (pattern, seed, run, comforts[seed])
            for pattern in (*PATTERNS, LIMITED)
            for seed in range(systems)
            for run in range(RUNS_A_SYSTEM if pattern != LIMITED else 3)
        ]
        outcomes = list(pool.map(examine, jobs, chunksize=4))
    figures = []
    for pattern in PATTERNS:
        figures += _figures(pattern, [o for o in outcomes if o.pattern == pattern])
    fit = [o for o in outcomes if o.pattern not in (LIMITED, "loop at 100 %")]
    wrong = sum(o.generator for o in fit)
    figures.append(
        Figure("“generator” said of systems limited by a resource", f"{wrong} of {len(fit)}", "none", not wrong)
    )
    limited = [o.generator for o in outcomes if o.pattern == LIMITED]
    figures.append(truth.share("“generator” said of runs limited by it", limited, 0.95, 1.0))
    return figures


def _true_comfort(seed: int) -> float | None:
    case = make(KIND, seed)
    return truth.true_comfort(case, case.real.users or case.profile.peak)


def examine(job: tuple[str, int, int, float | None]) -> Outcome:
    """Play one pattern against one system and judge what is said; the true comfort limit may be unknown."""
    pattern, seed, number, real_comfort = job
    case = make(KIND, seed)
    real = case.real
    users = real.users or math.inf
    random = Random(f"{pattern}-{seed}-{number}")
    loop = PATTERNS.get(pattern, _laborious(2.0))(random, real)
    twin = Twin(case.config, case.journeys, seed=1000 * number + seed + 1, loop=loop)
    ordered = as_planned(case.profile)
    run = twin.run(ordered)
    goals = [Objective(1, "response", case.goal_s, 95.0)]
    found = analysis.analyse(run, ordered, goals, 0.05, [twin.requests()])
    limiting = found.limiting
    point, comfort = _claims(found)
    covered = {"N*": _covers(point, users), "comfort limit": _covers(comfort, real_comfort)}
    needless: dict[str, bool | None] = {"N*": None, "comfort limit": None}
    naive = _naive(found)
    if naive is not None and abs(naive / users - 1) < SMALL:
        needless["N*"] = "saturation point" in found.measuring.withheld
    if real_comfort is not None and comfort is not None:
        needless["comfort limit"] = False
    elif real_comfort is not None and "comfort limit" in found.measuring.withheld:
        needless["comfort limit"] = _comfort_distortion(case, twin, real_comfort) < SMALL
    said = isinstance(limiting, LimitingResource) and limiting.cause == "generator"
    return Outcome(pattern, covered, needless, said, found.measuring.withheld)


def _claims(found: analysis.Analysis) -> tuple[Estimate | None, Estimate | None]:
    point, comfort = found.saturation, found.comfort
    limit = comfort.load if isinstance(comfort, ComfortLimit) and comfort.status == "found" else None
    return point.load if isinstance(point, Saturation) else None, limit


def _naive(found: analysis.Analysis) -> float | None:
    """N* as it would be claimed of the recorded figures without a question."""
    point = found.saturation
    if not isinstance(point, Saturation) or point.status not in ("reached", "blurred"):
        return None
    return point.reached * (point.light_response_s + point.think_s)


def _comfort_distortion(case: Case, twin: Twin, real: float) -> float:
    """How far off the comfort limit of recorded times is, taken at their word."""
    run = twin.collected()
    trusting = analysis.analyse(
        truth.taken_at_its_word(run), as_planned(case.profile), [Objective(1, "response", case.goal_s, 95.0)], 0.05
    )
    _, comfort = _claims(trusting)
    return abs(comfort.value / real - 1) if comfort is not None else math.inf


def _covers(estimate: Estimate | None, real: float | None) -> bool | None:
    return None if estimate is None or real is None else estimate.low <= real <= estimate.high


def _figures(pattern: str, outcomes: Sequence[Outcome]) -> list[Figure]:
    found = []
    for claim in ("N*", "comfort limit"):
        found += [
            truth.share(f"{pattern}: interval of {claim} covers", [o.covered[claim] for o in outcomes], 0.88, 1.0),
            truth.share(f"{pattern}: {claim} withheld needlessly", [o.needless[claim] for o in outcomes], 0.0, 0.05),
        ]
    return found
