"""Scaling experiments on random systems, in virtual time: what is foretold of them, and what is true."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from random import Random
from statistics import mean

import numpy as np

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.conditions import Case, make
from stonekettle.core.analysis import Analysis, analyse
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned
from stonekettle.core.scaling import LAWS, Foretold, Law, Limit, Scaled, caps_of, limit_of, points_of
from stonekettle.practice import truth
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.twin import simulate

SYSTEMS = 60
KINDS = ("linear", "shared limit", "coherency", "hard next limit")
VALUES, ROUNDS = (1, 2, 4), 2
BEYOND = 8
MOST_RATE = 60.0
"""Steps per second that one instance does: the fewer, the longer runs may be."""
LEAST_COVER, MOST_COVER, MOST_OFF, LEAST_NAMED = 0.85, 0.97, 0.15, 0.9


@dataclass(frozen=True)
class Examined:
    """A system: what its experiment foretold of ``BEYOND``, by which laws, and the truth."""

    kind: str
    number: int
    foretold: Foretold | None
    laws: Mapping[Law, float]
    rate: float
    limit: str

    @property
    def told(self) -> Foretold | None:
        return self.foretold if self.foretold is not None and not self.foretold.wide else None


def measure(*, quick: bool) -> list[Figure]:
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        return figures_of(list(pool.map(examine, range(8 if quick else SYSTEMS), chunksize=2)))


def examine(number: int) -> Examined:
    kind = KINDS[number % len(KINDS)]
    random = Random(f"scaling-{number}")
    case, name = _system(kind, number, random)
    runs = [(n, _run(case, name, n, 10 * number + k)) for n in VALUES for k in range(ROUNDS)]
    limits = [(float(n), limit) for n, run in runs if isinstance(limit := limit_of(run, name), Limit)]
    caps = caps_of([run for _, run in runs], name)
    points = points_of(limits)
    found = Scaled(points, caps) if len(points) == len(VALUES) else None
    real = _truth(case, name, BEYOND)
    component, _, resource = real.limiting.partition(".")
    named = real.limiting if component != name else "shared" if resource == "lock" else ""
    return Examined(
        kind,
        number,
        found.foretold(BEYOND) if found else None,
        found.laws if found else {},
        real.throughput_limit,
        named,
    )


def _system(kind: str, number: int, random: Random) -> tuple[Case, str]:
    """An ordinary system whose component that limits is scaled, and none other limits before 24 of it, but for what its
    kind makes of it."""
    case = make("ordinary", 3_000 + number)
    name = case.real.limiting.partition(".")[0] if case.real.limiting else ""
    alone = case.real.throughput
    slower = max(1.0, alone / MOST_RATE)
    config = replace(
        case.config,
        components=tuple(c if c.name == name else replace(c, cpus=c.cpus * 24) for c in case.config.components),
        routes=tuple(
            replace(r, visits=tuple(replace(v, cpu_ms=v.cpu_ms * slower) for v in r.visits)) for r in case.config.routes
        ),
    )
    alone /= slower
    limit = 1.5 * (4 ** random.random())
    if kind == "shared limit":
        config = config.with_component(name, lock_ms=1000 / (limit * alone))
    elif kind == "coherency":
        config = config.with_component(
            name, contention=random.uniform(0, 0.1), coherency=10 ** random.uniform(-2.7, -1.5)
        )
    elif kind == "hard next limit":
        limit = 1.5 * (6 ** random.random())
        other = random.choice([c.name for c in config.components if c.name != name])
        cpus = config.component(other).cpus // 24
        each_ms = cpus / (limit * alone) * 1000
        config = replace(
            config.with_component(other, cpus=cpus),
            routes=tuple(
                replace(r, visits=tuple(replace(v, cpu_ms=each_ms) if v.component == other else v for v in r.visits))
                for r in config.routes
            ),
        )
    return replace(case, config=config), name


def _truth(case: Case, name: str, n: int) -> truth.Truth:
    mix, think_s = truth.mix_of(case.journeys)
    return truth.compute(_with(case.config, name, n), mix, think_s)


def _with(config: PracticeConfig, name: str, n: int) -> PracticeConfig:
    return config.with_component(name, instances=n)


def _run(case: Case, name: str, n: int, number: int) -> Analysis:
    """A climb in eight levels to about one and a half times where one instance's share of users would saturate n."""
    alone = _truth(case, name, 1)
    step = max(1, round(alone.users * n * Random(f"{number}").uniform(1.4, 1.9) / 8))
    cycle_s = alone.think_s + alone.light_response_s
    hold_s = round(min(90.0, max(20.0, 6 * cycle_s)))
    profile = LoadProfile((Segment.climb(step, 8 * step, step, hold_s),))
    run = simulate(_with(case.config, name, n), case.journeys, profile, seed=100 * number + n)
    return analyse(run, as_planned(profile), [], 0.05)


def figures_of(systems: Sequence[Examined]) -> list[Figure]:
    told = [(one, foretold) for one in systems if (foretold := one.told) is not None]
    cover = mean(f.capacity.low <= one.rate <= f.capacity.high for one, f in told)
    off = float(np.quantile([abs(f.capacity.value / one.rate - 1) for one, f in told], 0.9))
    named = mean(f.limit == one.limit for one, f in told)
    figures = [
        Figure(
            "foretold intervals hold the truth",
            f"{cover:.1%} of {len(told)}",
            "85 to 97 %",
            LEAST_COVER <= cover <= MOST_COVER,
        ),
        Figure("off by, 90th percentile", f"{off:.1%}", "15 %", off <= MOST_OFF),
        Figure("limit to come named rightly", f"{named:.1%}", "90 %", named >= LEAST_NAMED),
        Figure("  declined", f"{len(systems) - len(told)} of {len(systems)}", "", None),
    ]
    for kind in KINDS:
        own = [(one, f) for one, f in told if one.kind == kind]
        if not own:
            continue
        held = sum(f.capacity.low <= one.rate <= f.capacity.high for one, f in own)
        right = sum(f.limit == one.limit for one, f in own)
        worst = max(abs(f.capacity.value / one.rate - 1) for one, f in own)
        laws = ", ".join(f"{law} {mean(one.laws[law] for one, _ in own):.2f}" for law in LAWS)
        figures.append(
            Figure(f"  {kind}", f"{held} held, {right} named, of {len(own)}", f"worst {worst:.0%} off; {laws}", None)
        )
    return figures
