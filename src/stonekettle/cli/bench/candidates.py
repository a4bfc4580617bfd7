"""Candidates under a machine that drifts, in virtual time: how often equal ones are called different when they take
turns, and when one is simply measured after the other; and how often a difference is seen.

The machine is 8 % faster and slower within 20 minutes; each turn begins cold.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from random import Random

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.compare import system_of, working
from stonekettle.cli.bench.truth import share
from stonekettle.core import analysis, facts
from stonekettle.core.comparing import compare
from stonekettle.core.differences import Comparison
from stonekettle.core.facts import Fact
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned
from stonekettle.core.pooling import compare_blocks
from stonekettle.core.settling import settle
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.truth import compute, mix_of
from stonekettle.practice.twin import TwinJourney, simulate

EQUAL, SLOWER = 200, 60
QUICK = 10
"""For a quick look one experiment of so many is played."""
BLOCKS, TURN_S, SWITCH_S = 8, 80.0, 20.0
LOAD = 0.6
"""Of the load at which the system saturates."""
DRIFT, DRIFT_EVERY_S = 0.08, 1200.0
MORE_WORK = 1.10
AT_MOST = 0.07
JUDGED = ("mean", "p95", "demand")


@dataclass(frozen=True)
class Experiment:
    """What was said of two candidates, ``blocked`` where they took turns, ``plain`` one after the other; whether the
    turns were ``settled``, and what was left out of each (s)."""

    blocked: Comparison
    plain: Comparison
    settled: bool
    left_out_s: float


def measure(*, quick: bool) -> list[Figure]:
    """200 experiments with equal candidates, and 60 in which one does a tenth more work (a tenth with ``quick``)."""
    equal, slower = (range(0, count, QUICK if quick else 1) for count in (EQUAL, SLOWER))
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        like = list(pool.map(examine, [(seed, 1.0) for seed in equal]))
        unlike = list(pool.map(examine, [(seed, MORE_WORK) for seed in slower]))
    return figures_of(like, unlike)


def examine(job: tuple[int, float]) -> Experiment:
    """Play one experiment, the second candidate of which works so many times as much."""
    seed, more = job
    random = Random(f"candidates-{seed}")
    system, journeys = system_of(random)
    truth = compute(system, *mix_of(journeys))
    users = max(2, round(LOAD * truth.users))
    cold_s = random.uniform(2.0, 12.0)
    system = system.with_component(
        "shop", cold_factor=random.uniform(1.3, 3.0), warms_over=max(1.0, cold_s * LOAD * truth.throughput_limit)
    )
    system = replace(system, drift=DRIFT, drift_every_s=DRIFT_EVERY_S, drift_from_s=random.uniform(0, DRIFT_EVERY_S))
    candidates = (system, working(system, more))
    turns: tuple[list[Sequence[Fact]], list[Sequence[Fact]]] = ([], [])
    now_s = 0.0
    for block in range(BLOCKS):
        for turn in random.sample((0, 1), 2):
            played = _turn(candidates[turn], journeys, users, TURN_S, now_s, seed * 1000 + 2 * block + turn)
            turns[turn].append(played)
            now_s += TURN_S + SWITCH_S
    settling, (before, after) = settle(turns)
    long_s = BLOCKS * (TURN_S + SWITCH_S)
    plain = (
        _turn(one, journeys, users, long_s, place * long_s, seed * 1000 + 500 + place)
        for place, one in enumerate(candidates)
    )
    return Experiment(compare_blocks(before, after), compare(*plain), settling.settled, settling.left_out_s)


def _turn(
    system: PracticeConfig,
    journeys: Sequence[TwinJourney],
    users: int,
    length_s: float,
    from_s: float,
    seed: int,
) -> Sequence[Fact]:
    drifting = replace(system, drift_from_s=system.drift_from_s + from_s)
    profile = LoadProfile((Segment.hold(users, length_s),))
    run = simulate(drifting, journeys, profile, seed=seed)
    return facts.gather(run, analysis.analyse(run, as_planned(profile), (), 0.05))


def figures_of(like: Sequence[Experiment], unlike: Sequence[Experiment]) -> list[Figure]:
    """The table of figures beside their targets."""
    told = [
        share(f"equal candidates called different, {name}", _different(like, name), 0.0, AT_MOST) for name in JUDGED
    ]
    return [
        *told,
        share("equal candidates called different, all together", [bool(e.blocked.told) for e in like], 0.0, AT_MOST),
        share("the same measured one after the other, all together", [bool(e.plain.told) for e in like], 0.2, 1.0),
        share("a tenth more work called slower", [e.blocked.verdict == "slower" for e in unlike], 0.8, 1.0),
        share("turns settled within a third", [e.settled for e in (*like, *unlike)], 0.5, 1.0),
        _seen(like),
    ]


def _different(experiments: Sequence[Experiment], name: str) -> list[bool]:
    return [
        one.verdict in ("faster", "slower")
        for experiment in experiments
        for one in experiment.blocked.differences
        if one.figure == name
    ]


def _seen(experiments: Sequence[Experiment]) -> Figure:
    told = sorted(one.detectable for e in experiments for one in e.blocked.differences if one.figure == "mean")
    name = f"detectable difference in a mean, {BLOCKS} blocks of {TURN_S:g} s"
    return Figure(name, f"median {told[len(told) // 2]:.1%}", "", None)
