"""What moves with response time: how often a planted cause stands among the first, and how often anything is named
where there is none, in virtual time and among some hundreds of metrics."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from random import Random
from typing import Literal, get_args

import numpy as np

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.conditions import CONDITIONS, make
from stonekettle.core.distribution import Law
from stonekettle.core.load_profile import Target
from stonekettle.core.moving import Load, Move, least_explained, moving
from stonekettle.core.run_data import RunData
from stonekettle.core.types import FloatArray
from stonekettle.practice import truth
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import Twin, TwinGroup, TwinJourney, TwinStep, simulate

RUNS = 100
FIRST = 3
LEAST_FOUND, MOST_NAMED = 0.9, 0.05
METRICS = 200
TROUBLED = ("drift", "periodic job", "warming")
"""Conditions with a trouble of their own."""
HEALTHY = tuple(kind for kind in CONDITIONS if kind not in TROUBLED)
Cause = Literal["neighbour's bursts", "slow disk", "emptied cache", "drained pool"]
EXPORT = "POST /export"


@dataclass(frozen=True)
class Examined:
    """A run, what was planted (None: nothing), where that stood (0: first), what was named at all, and whether the
    planted was."""

    kind: str
    cause: Cause | None
    place: int | None
    named: tuple[Move, ...]
    told: bool
    metrics: int
    plain: int | None
    """Where the cause stood with the load left in."""


def measure(*, quick: bool) -> list[Figure]:
    runs = 8 if quick else RUNS
    causes = get_args(Cause)
    jobs: list[tuple[int, Cause | None]] = [(number, None) for number in range(runs)]
    jobs += [(RUNS + number, causes[number % len(causes)]) for number in range(runs)]
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        return figures_of(list(pool.map(examine, jobs, chunksize=2)))


def examine(job: tuple[int, Cause | None]) -> Examined:
    """Play a run and look at what moves with its response time."""
    number, cause = job
    random = Random(number)
    if cause is None and number % 2:
        kind = HEALTHY[number // 2 % len(HEALTHY)]
        case = make(kind, 300 + number)
        run, wanted = simulate(case.config, case.journeys, case.profile, seed=number), set[str]()
    else:
        kind = cause or "shop"
        run, wanted = _played(_Shop(random), cause, number)
    metrics = {**metered(run), **beside_the_point(run, number)}
    load = Load(run.planned_users, run.started.sum(axis=1) * 1.0, run.completed.sum(axis=1) * 1.0)
    found = moving(step_of(run, load), metrics, load)
    moves = found.moves if found else ()
    plain = sorted(moves, key=lambda move: -abs(move.plain.correlation))
    return Examined(
        kind,
        cause,
        next((place for place, move in enumerate(moves) if move.key in wanted), None),
        found.named if found else (),
        any(move.key in wanted for move in found.named) if found else False,
        len(metrics),
        next((place for place, move in enumerate(plain) if move.key in wanted), None),
    )


def step_of(run: RunData, load: Load) -> tuple[FloatArray, FloatArray]:
    """The response times of the step that the load explains least, as a page would look at it first."""
    good = run.completed - run.errors
    targets = [
        (run.response_sum_s[:, list(cells)].sum(axis=1), good[:, list(cells)].sum(axis=1).astype(np.float64))
        for cells in run.cells_of_steps
    ]
    return targets[least_explained(targets, load) or 0]


class _Shop:
    """A random system of four components, and people who walk five steps of it."""

    def __init__(self, random: Random) -> None:
        self.random = random
        scale = 10 ** random.uniform(-0.3, 0.5)
        self.components = {
            "front": Component("front", cpus=4),
            "search": Component("search", cpus=3),
            "stock": Component("stock", cpus=3),
            "books": Component("books", cpus=3, disks=1),
        }
        ms = {name: scale * random.uniform(15, 30) for name in self.components}
        ms["front"] /= 4
        disk = scale * random.uniform(4, 7)
        self.routes = [
            Route("GET", "/", (Visit("front", ms["front"]),)),
            Route("GET", "/find", (Visit("front", ms["front"]), Visit("search", ms["search"]))),
            Route("GET", "/item", (Visit("front", ms["front"]), Visit("stock", ms["stock"]))),
            Route("GET", "/basket", (Visit("front", ms["front"]), Visit("books", ms["books"] / 2))),
            Route("POST", "/buy", (Visit("front", ms["front"]), Visit("books", ms["books"], disk_ms=disk))),
        ]
        think = Law("exponential", random.uniform(1, 4))
        self.journeys = [TwinJourney("visit", 1.0, tuple(TwinStep(route.name, think) for route in self.routes))]
        self.extra: tuple[int, float] | None = None

    @property
    def config(self) -> PracticeConfig:
        return PracticeConfig(tuple(self.components.values()), tuple(self.routes), service_law="lognormal")

    def change(self, name: str, **changes: float | None) -> None:
        self.components[name] = replace(self.components[name], **changes)  # type: ignore[arg-type]

    @property
    def truth(self) -> truth.Truth:
        return truth.compute(self.config, *truth.mix_of(self.journeys))


def _played(shop: _Shop, cause: Cause | None, seed: int) -> tuple[RunData, set[str]]:
    """A climb of the shop up to about where it saturates, with the cause in it, and the metrics that tell of it."""
    random, known = shop.random, shop.truth
    rate, levels = known.throughput_limit, random.randint(5, 8)
    most = known.users * random.uniform(0.7, 1.0)
    hold_s = random.randint(60, 110)
    wanted: set[str] = set()
    spell = {"spell_every_s": random.uniform(60, 120), "spell_s": random.uniform(12, 25)}
    if cause == "neighbour's bursts":
        name = random.choice(("search", "stock", "books"))
        shop.change(name, instances=3, cpus=1, slow_factor=random.uniform(2, 4), **spell)
        wanted = {f"{name}.cpu of {name}-3"}
    elif cause == "slow disk":
        shop.change("books", disk_factor=random.uniform(4, 8), **spell)
        wanted = {"books.disk"}
    elif cause == "emptied cache":
        name = random.choice(("search", "stock", "books"))
        warms = rate / len(shop.routes) * random.uniform(10, 20)
        shop.change(name, cold_factor=random.uniform(2, 4), warms_over=warms, **(spell | {"spell_every_s": 120.0}))
        wanted = {f"{name}.cpu"}
    elif cause == "drained pool":
        pool = random.randint(8, 14)
        shop.change("books", pool=pool, cpus=4)
        shop.routes.append(Route("POST", "/export", (Visit("books", 5, idle_ms=random.uniform(2000, 4000)),)))
        shop.journeys.append(TwinJourney("export", 0.0, (TwinStep(EXPORT, Law("fixed", 0.5)),)))
        shop.extra = (round(pool * random.uniform(0.9, 1.5)), random.uniform(20, 30))
        wanted = {"books.connections", "books.connections waiting", f"{EXPORT} begun"}
    weights = tuple(float(journey.name == "visit") for journey in shop.journeys)
    terms = {"people": TwinGroup(weights), "export": TwinGroup(tuple(1 - weight for weight in weights))}
    twin = Twin(shop.config, shop.journeys, seed=seed, groups=terms)
    bursts: list[tuple[float, float]] = []
    if shop.extra is not None:
        at_s = random.uniform(20, 60)
        while at_s < levels * hold_s:
            bursts.append((at_s, at_s + shop.extra[1]))
            at_s += random.uniform(60, 110)
    edges = sorted({hold_s * level for level in range(levels + 1)} | {edge for burst in bursts for edge in burst})
    for start in edges:
        until = next((edge for edge in edges if edge > start), start)
        level = min(levels - 1, int(start // hold_s))
        people = Target.steady(round(most * (0.25 + 0.75 * level / (levels - 1))))
        drains = shop.extra is not None and any(first <= start < last for first, last in bursts)
        others = {"export": Target.steady(shop.extra[0] if drains and shop.extra else 0)} if shop.extra else {}
        twin.advance(min(until, levels * hold_s), {"people": people, **others})
    return twin.collected(), wanted


def metered(run: RunData) -> dict[str, FloatArray]:
    """What meters and the run itself tell, by name."""
    found: dict[str, FloatArray] = {}
    for resource in run.resources:
        found[resource.key] = resource.utilisation
        found |= {f"{resource.key} of {name}": series for name, series in resource.instances.items()}
        if resource.waiting is not None:
            found[f"{resource.key} waiting"] = resource.waiting
    for place, cell in enumerate(run.cells):
        found[f"{cell.step} begun"] = run.started[:, place].astype(np.float64)
    return found


def beside_the_point(run: RunData, seed: int) -> dict[str, FloatArray]:
    """Metrics that follow the load, or nothing: proportional to what is done, bent, late, slow, noisy, in bursts, by
    the clock, with a memory."""
    chance, n = np.random.default_rng(seed), run.seconds
    done, users = run.completed.sum(axis=1) * 1.0, run.users
    noise = 0.1 * float(done.mean())
    found: dict[str, FloatArray] = {}
    for number in range(METRICS // 8):
        scale = float(10 ** chance.uniform(-2, 3))
        walk = np.cumsum(chance.normal(0, 1, n))
        memory = np.zeros(n)
        kept = chance.uniform(0.7, 0.98)
        for second in range(1, n):
            memory[second] = kept * memory[second - 1] + chance.normal()
        late = np.convolve(done, np.full(10, 0.1))[:n].astype(np.float64)
        period = float(chance.uniform(15, 90))
        kinds: Mapping[str, FloatArray] = {
            "follows": done + chance.normal(0, noise, n) * chance.uniform(0, 1),
            "bent": np.sqrt(users) + chance.normal(0, 0.3, n) * chance.uniform(0, 1),
            "late": late + chance.normal(0, noise, n),
            "steady": chance.normal(5, 1, n),
            "walks": walk,
            "remembers": memory + 0.02 * users,
            "bursts": (chance.random(n) < 0.03) * chance.pareto(2, n),
            "by the clock": np.sin(2 * np.pi * (np.arange(n) + chance.uniform(0, period)) / period)
            + chance.normal(0, 0.3, n),
        }
        found |= {f"{kind} {number}": scale * series for kind, series in kinds.items()}
    return found


def figures_of(examined: Sequence[Examined]) -> list[Figure]:
    healthy = [one for one in examined if one.cause is None]
    ill = [one for one in examined if one.cause is not None]
    first = [one for one in ill if one.place is not None and one.place < FIRST]
    named = [one for one in healthy if one.named]
    most = MOST_NAMED * len(healthy)
    figures = [
        Figure("metrics", f"at least {min(one.metrics for one in examined)}", "200", None),
        Figure(
            "the cause among the first three",
            f"{len(first)} of {len(ill)}",
            "9 of 10",
            len(first) >= LEAST_FOUND * len(ill),
        ),
        Figure("anything named without one", f"{len(named)} of {len(healthy)}", "at most 1 in 20", len(named) <= most),
        Figure("  and named", f"{sum(one.told for one in ill)} of {len(ill)}", "", None),
        Figure(
            "  the same with the load left in",
            f"{sum(one.plain is not None and one.plain < FIRST for one in ill)} of {len(ill)}",
            "",
            None,
        ),
    ]
    for cause in get_args(Cause):
        own = [one for one in ill if one.cause == cause]
        places = Counter(min(one.place if one.place is not None else FIRST, FIRST) for one in own)
        told = ", ".join(
            f"{place + 1 if place < FIRST else 'later'}: {count}" for place, count in sorted(places.items())
        )
        figures.append(Figure(f"  {cause}", f"{told}; named {sum(one.told for one in own)}", "its place", None))
    wrong = Counter(f"{one.kind} ({one.named[0].key})" for one in named)
    figures.append(Figure("  named without one", ", ".join(wrong) or "none", "", None))
    return figures
