"""Notices of what is unusual: how often in healthy runs, and how soon in runs with a trouble, in virtual time."""

from __future__ import annotations

import math
import os
from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from random import Random
from statistics import median
from typing import Literal, get_args

import numpy as np

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.conditions import CONDITIONS, Case, make
from stonekettle.core.anomalies import BLOCK_S, Anomalies, block_of
from stonekettle.core.notices import Notice
from stonekettle.core.run_data import RunData
from stonekettle.practice import truth
from stonekettle.practice.twin import simulate

RUNS = 50
MOST_FALSE, LEAST_FOUND, SOON_S = 0.1, 0.9, 30.0
TROUBLED = ("drift", "periodic job")
"""Conditions with a trouble of their own."""
HEALTHY = tuple(kind for kind in CONDITIONS if kind not in TROUBLED)
Trouble = Literal["slow instance", "leak", "noisy neighbour"]
FILLS_IN_S = (180.0, 1200.0)
"""A leak fills the memory in so long."""


@dataclass(frozen=True)
class Watched:
    """A run, what troubled it from when on (None: nothing), and what was said."""

    kind: str
    trouble: Trouble | None
    at_s: float
    component: str
    said: tuple[tuple[float, Notice], ...]

    @property
    def after_s(self) -> float:
        """How long after it began the trouble was told of; infinite where it was not."""
        return min((told_s for told_s, n in self.said if self._about(told_s, n)), default=math.inf) - self.at_s

    @property
    def false(self) -> int:
        return sum(not self._about(told_s, n) for told_s, n in self.said)

    def _about(self, told_s: float, notice: Notice) -> bool:
        wanted = "memory" if self.trouble == "leak" else "cost"
        mine = notice.kind == wanted and notice.subject.startswith(f"{self.component}.")
        return self.trouble is not None and mine and told_s > self.at_s


def measure(*, quick: bool) -> list[Figure]:
    runs = 6 if quick else RUNS
    troubles = get_args(Trouble)
    jobs = [(number, None) for number in range(runs)] + [(RUNS + n, troubles[n % 3]) for n in range(runs)]
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        return figures_of(list(pool.map(examine, jobs, chunksize=2)))


def examine(job: tuple[int, Trouble | None]) -> Watched:
    """Play a run and hear it block by block."""
    number, trouble = job
    kind = HEALTHY[number % len(HEALTHY)]
    case = make(kind, 100 + number)
    random = Random(number)
    component, at_s = "", 0.0
    if trouble is not None:
        case, component, at_s = troubled(case, trouble, random)
    return Watched(
        kind, trouble, at_s, component, heard(simulate(case.config, case.journeys, case.profile, seed=number))
    )


def troubled(case: Case, trouble: Trouble, random: Random) -> tuple[Case, str, float]:
    """The same case with a trouble from the middle of its run on, at a component of its."""
    at_s = case.profile.duration_s * random.uniform(0.35, 0.6)
    component = random.choice([c for c in case.config.components if c.metered and c.cpus])
    change: dict[str, float] = {"troubled_from_s": at_s}
    if trouble == "slow instance":
        instances = random.choice((2, 3))
        each = math.ceil(component.cpus / instances)
        change |= {"instances": instances, "cpus": each, "slow_factor": random.uniform(2, 4)}
    elif trouble == "noisy neighbour":
        taken = max(1, round(component.cpus * random.uniform(0.25, 0.5)))
        change |= {"job_every_s": 1.0, "job_s": 1.0, "job_cpus": taken}
    else:
        mix, think_s = truth.mix_of(case.journeys)
        rate = truth.compute(case.config, mix, think_s).throughput_limit * 0.5
        change["leak_kb"] = component.memory_mb * 700 / rate / random.uniform(*FILLS_IN_S)
    return replace(case, config=case.config.with_component(component.name, **change)), component.name, at_s


def heard(run: RunData) -> tuple[tuple[float, Notice], ...]:
    """What is said of a run as it goes on, with when (s)."""
    told: dict[tuple[str, str, int], tuple[float, Notice]] = {}
    anomalies = Anomalies(len(run.cells))
    load = {
        "failed": run.errors.sum(axis=1).astype(np.float64),
        "begun": run.started.sum(axis=1).astype(np.float64),
        "users": run.users,
        "in_flight": run.in_flight,
    }
    for at_s in range(0, run.seconds - BLOCK_S + 1, BLOCK_S):
        own = slice(at_s, at_s + BLOCK_S)
        resources = [(r.key, r.kind, r.utilisation[own], r.capacity[own]) for r in run.resources]
        completed = run.completed[own].astype(np.float64)
        anomalies.hear(block_of(at_s, completed, {name: series[own] for name, series in load.items()}, resources))
        for notice in anomalies.notices:
            key = (notice.kind, notice.subject, notice.since_s)
            told[key] = (told[key][0] if key in told else float(at_s + BLOCK_S), notice)
    return tuple(told.values())


def figures_of(watched: Sequence[Watched]) -> list[Figure]:
    healthy = [one for one in watched if one.trouble is None]
    ill = [one for one in watched if one.trouble is not None]
    false = sum(one.false for one in healthy)
    found = [one.after_s for one in ill if math.isfinite(one.after_s)]
    share = len(found) / len(ill)
    middle = median(one.after_s for one in ill)
    figures = [
        Figure(
            "false in healthy runs", f"{false} in {len(healthy)}", "at most 1 in 10", false <= MOST_FALSE * len(healthy)
        ),
        Figure("troubles found", f"{len(found)} of {len(ill)}", "9 of 10", share >= LEAST_FOUND),
        Figure("found after, median", f"{middle:.0f} s", "30 s", middle <= SOON_S),
    ]
    for trouble in get_args(Trouble):
        own = [one for one in ill if one.trouble == trouble]
        times = [one.after_s for one in own]
        lost = Counter(one.kind for one in own if math.isinf(one.after_s))
        told = f"not in {', '.join(f'{kind} {count}' for kind, count in lost.items())}" if lost else ""
        figures.append(
            Figure(f"  {trouble}", f"{len(own) - sum(lost.values())} of {len(own)}, {median(times):.0f} s", told, None)
        )
    kinds = Counter(one.kind for one in watched for _ in range(one.false))
    told = ", ".join(f"{kind} {count}" for kind, count in kinds.most_common(5))
    figures.append(Figure("  false anywhere", str(sum(kinds.values())), told, None))
    return figures
