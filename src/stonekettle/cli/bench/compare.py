"""Comparison of runs whose difference is known, in virtual time: how often like runs are called different, how often a
difference is seen, and whether the detectable difference is told rightly."""

from __future__ import annotations

import math
import os
from collections.abc import Iterable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from random import Random

import numpy as np
from scipy import special

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.truth import share
from stonekettle.core import analysis, facts
from stonekettle.core.comparing import compare
from stonekettle.core.differences import CHANCE, POWER, TIMES, Comparison
from stonekettle.core.distribution import Law
from stonekettle.core.facts import Fact
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.truth import compute, mix_of
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate

ALIKE, SLOWER = 400, 100
QUICK = 10
"""For a quick look one pair of so many is taken."""
LEVEL_S = 60.0
SHARES = (0.3, 0.5, 0.7, 0.85, 1.0)
"""The levels, as shares of the load at which the system saturates."""
MOST_RATE = 200.0
MORE_WORK = 1.10
JUDGED = (*TIMES, "demand")
RIGHT_WITHIN = 1.25


@dataclass(frozen=True)
class Seen:
    """What a comparison said of one figure: whether it was called different and whether slower, and its log ratio as a
    multiple of the detectable one."""

    figure: str
    different: bool
    slower: bool
    of_detectable: float
    detectable: float


@dataclass(frozen=True)
class Pair:
    """What was said of a pair of runs; ``told``: the whole of it called them different."""

    told: bool
    verdict: str
    seen: tuple[Seen, ...]


def measure(*, quick: bool) -> list[Figure]:
    """400 pairs of like runs and 100 of which the second does a tenth more work (a tenth of them with ``quick``)."""
    alike, slower = (range(0, count, QUICK if quick else 1) for count in (ALIKE, SLOWER))
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        like = list(pool.map(examine, [(seed, 1.0) for seed in alike]))
        unlike = list(pool.map(examine, [(seed, MORE_WORK) for seed in slower]))
    return figures_of(like, unlike)


def examine(job: tuple[int, float]) -> Pair:
    """Play two runs, the second of a system whose work is so many times as much, and compare them."""
    seed, more = job
    random = Random(f"compared-{seed}")
    system, journeys = system_of(random)
    users = compute(system, *mix_of(journeys)).users
    profile = LoadProfile(tuple(Segment.hold(max(2, round(users * share)), LEVEL_S) for share in SHARES))
    before, after = (
        _facts(config, journeys, profile, seed * 2 + turn)
        for turn, config in enumerate((system, working(system, more)))
    )
    found = compare(before, after)
    return Pair(bool(found.told), found.verdict, tuple(_seen(found)))


def working(system: PracticeConfig, more: float) -> PracticeConfig:
    """The same system, all of whose work is so many times as much."""
    routes = tuple(
        replace(route, visits=tuple(replace(visit, cpu_ms=visit.cpu_ms * more) for visit in route.visits))
        for route in system.routes
    )
    return replace(system, routes=routes)


def system_of(random: Random) -> tuple[PracticeConfig, list[TwinJourney]]:
    """One of two components and two routes, below the rate at which playing it takes long."""
    while True:
        components = tuple(Component(name, cpus=random.choice((1, 2, 4))) for name in ("front", "shop"))
        routes = tuple(
            Route("GET", f"/{name}", (Visit("front", random.uniform(1, 8)), Visit("shop", random.uniform(5, 40))))
            for name in ("look", "pick")
        )
        system = PracticeConfig(components, routes, service_law=random.choice(("exponential", "lognormal")))
        think = Law("exponential", random.choice((0.5, 1.0, 2.0, 4.0)))
        journeys = [TwinJourney("Buy", 1.0, tuple(TwinStep(route.name, think) for route in routes))]
        if compute(system, *mix_of(journeys)).throughput_limit <= MOST_RATE:
            return system, journeys


def _facts(system: PracticeConfig, journeys: Sequence[TwinJourney], profile: LoadProfile, seed: int) -> Sequence[Fact]:
    run = simulate(system, journeys, profile, seed=seed)
    return facts.gather(run, analysis.analyse(run, as_planned(profile), (), 0.05))


def _seen(found: Comparison) -> Iterable[Seen]:
    for one in found.differences:
        if one.figure in JUDGED:
            by = math.log(one.ratio.value)
            yield Seen(
                one.figure,
                one.verdict in ("faster", "slower"),
                one.verdict == "slower",
                by / math.log1p(one.detectable),
                one.detectable,
            )


def figures_of(like: Sequence[Pair], unlike: Sequence[Pair]) -> list[Figure]:
    """The table of figures beside their targets."""
    told = [
        share(f"like runs called different, {name}", [s.different for s in _of(like, name)], 0.0, 0.05)
        for name in JUDGED
    ]
    told.append(share("like runs called different, all together", [pair.told for pair in like], 0.0, 0.05))
    told += [
        share(f"a tenth more work called slower, {name}", [s.slower for s in _of(unlike, name)], least, 1.0)
        for name, least in (("mean", 0.96), ("p95", 0.83), ("demand", 0.90))
    ]
    told.append(
        share("a tenth more work called slower, the verdict", [p.verdict == "slower" for p in unlike], 0.9, 1.0)
    )
    return [*told, *(_rightly(like, name) for name in JUDGED)]


def _of(pairs: Sequence[Pair], name: str) -> list[Seen]:
    return [seen for pair in pairs for seen in pair.seen if seen.figure == name]


def _rightly(like: Sequence[Pair], name: str) -> Figure:
    """The detectable difference as told over the true one, by how far like runs are apart."""
    seen = _of(like, name)
    spread = math.sqrt(float(np.mean([one.of_detectable**2 for one in seen])))
    factor = 1 / (spread * float(special.ndtri(1 - CHANCE / 2) + special.ndtri(POWER)))
    return Figure(
        f"detectable difference told over true, {name}",
        f"{factor:.2f} (median {np.median([one.detectable for one in seen]):.1%})",
        f"within a factor of {RIGHT_WITHIN}",
        1 / RIGHT_WITHIN <= factor <= RIGHT_WITHIN,
    )
