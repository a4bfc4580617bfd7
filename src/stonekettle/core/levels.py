"""What was measured at each load, once the system had settled?

A level is planned load held for at least 10 s with at least 100 completions. Its beginning is
discarded: the larger of a fifth and two mean cycles (a journey's think and response times), at
most half. Truncation rules that search the data for the end of the warm-up (MSER-5, White 1997) gave
no benefit, as sampling noise dominates. Standard errors come from batch means over 5-second
blocks (Conway 1963).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from stonekettle.core import health
from stonekettle.core.histogram import percentile_s
from stonekettle.core.load_profile import PlannedLevel
from stonekettle.core.run_data import RunData
from stonekettle.core.types import BoolArray, FloatArray, IntArray

MIN_HOLD_S = 10.0
MIN_COMPLETIONS = 100
BLOCK_S = 5
MIN_BLOCKS = 4
WARM_UP_SHARE = 0.2
WARM_UP_CYCLES = 2.0


@dataclass(frozen=True)
class Window:
    """The seconds of a level that count, and the block each belongs to (−1: left out)."""

    used: BoolArray
    block_of_second: IntArray
    blocks: int


@dataclass(frozen=True)
class StepLevel:
    """One step at one level. Times in seconds; NaN where nothing succeeded."""

    step: int
    throughput: float
    response_s: float
    p50_s: float
    p95_s: float
    p99_s: float
    completions: int
    errors: int


@dataclass(frozen=True)
class Level:
    """One level of a run, measured after warm-up.

    ``throughput`` counts successful requests per second, ``throughput_se`` is its standard error;
    ``thinking`` is the mean number of users in think time by the plan's laws (X·Z);
    ``completion_rate`` counts failed requests too.
    """

    number: int
    start_s: float
    end_s: float
    planned_users: float
    users: float
    moving: bool
    throughput: float
    throughput_se: float
    completion_rate: float
    response_s: float
    p50_s: float
    p95_s: float
    p99_s: float
    in_flight: float
    thinking: float
    think_variation: float
    overdue: float
    longest_gap_s: float
    completions: int
    errors: int
    seconds_used: int
    seconds_left_out: int
    steps: tuple[StepLevel, ...]
    utilisation: dict[str, float]
    waiting: dict[str, float]
    window: Window = field(repr=False, compare=False)

    @property
    def error_ratio(self) -> float:
        return self.errors / self.completions if self.completions else 0.0


def measure(run: RunData, planned: Sequence[PlannedLevel]) -> tuple[Level, ...]:
    """The levels of ``run`` that are long and busy enough to analyse, in order of time."""
    bad = health.strained(run) | health.gaps(run)
    bad |= health.off_plan(run) & ~_moving(run, planned)
    found: list[Level] = []
    for plan in planned:
        if plan.users <= 0 or plan.duration_s < MIN_HOLD_S or plan.start_s >= run.seconds:
            continue
        level = _measure_one(run, plan, bad, len(found) + 1)
        if level is not None:
            found.append(level)
    return _with_pooled_errors(found)


def _moving(run: RunData, planned: Sequence[PlannedLevel]) -> BoolArray:
    moving = np.zeros(run.seconds, dtype=np.bool_)
    for plan in planned:
        if plan.moving:
            moving[int(plan.start_s) : int(np.ceil(plan.end_s))] = True
    return moving


def _warm_up_s(run: RunData, plan: PlannedLevel) -> float:
    """The larger of a fifth of the level and two mean cycles, at most half the level."""
    inside = slice(int(np.ceil(plan.start_s)), int(plan.end_s))
    completions = run.completed[inside].sum(axis=0)
    total = max(1, int(completions.sum()))
    think = sum(s.think_s * c for s, c in zip(run.steps, completions, strict=True)) / total
    succeeded = max(1, int(run.succeeded[inside].sum()))
    response = float(run.response_sum_s[inside].sum()) / succeeded
    wanted = max(
        WARM_UP_SHARE * plan.duration_s, WARM_UP_CYCLES * (think + response) * _steps_in_turn(run, completions)
    )
    return float(min(wanted, plan.duration_s / 2))


def _steps_in_turn(run: RunData, completions: IntArray) -> float:
    """Mean number of steps in a journey: the mix of steps settles over whole journeys only."""
    journeys = [step.journey for step in run.steps]
    first = [i for i, journey in enumerate(journeys) if journeys.index(journey) == i]
    begun = int(completions[first].sum())
    return max(1.0, float(completions.sum()) / begun) if begun else 1.0


def _measure_one(run: RunData, plan: PlannedLevel, bad: BoolArray, number: int) -> Level | None:
    second = np.arange(run.seconds)
    warm_up = 0.0 if plan.moving else _warm_up_s(run, plan)
    settled = (second >= plan.start_s + warm_up) & (second + 1 <= plan.end_s + 1e-9)
    used = settled & ~bad
    seconds = int(used.sum())
    completions = run.completed[used].sum(axis=0)
    total = int(completions.sum())
    if total < MIN_COMPLETIONS or seconds < 2:
        return None
    window = _window(used)
    succeeded = run.succeeded[used]
    blocks = np.bincount(window.block_of_second[used], succeeded, window.blocks)
    lengths = np.bincount(window.block_of_second[used], minlength=window.blocks)
    rates = blocks / lengths
    merged = run.histograms.merged(used)
    good = max(1, int(succeeded.sum()))
    think_s = np.array([s.think_s for s in run.steps])
    variation = np.array([s.think_variation for s in run.steps])
    thinking = float(completions @ think_s) / seconds
    # The second moment of a mixture: each step's own variance plus the spread between means.
    second_moment = float(completions @ (think_s**2 * (1 + variation**2))) / total
    mean = float(completions @ think_s) / total
    mixed = np.sqrt(max(second_moment - mean**2, 0.0)) / mean if mean > 0 else 0.0
    return Level(
        number=number,
        start_s=plan.start_s,
        end_s=plan.end_s,
        planned_users=plan.users,
        users=float(run.users[used].mean()),
        moving=plan.moving,
        throughput=float(succeeded.sum()) / seconds,
        throughput_se=float(rates.std(ddof=1) / np.sqrt(window.blocks)) if window.blocks > 1 else np.nan,
        completion_rate=total / seconds,
        response_s=float(run.response_sum_s[used].sum()) / good,
        p50_s=percentile_s(merged, 50),
        p95_s=percentile_s(merged, 95),
        p99_s=percentile_s(merged, 99),
        in_flight=float(run.in_flight[used].mean()),
        thinking=thinking,
        think_variation=float(mixed),
        overdue=float(run.overdue[used].mean()),
        longest_gap_s=float(run.start_gap_s[settled & ~health.gaps(run)].max()),
        completions=total,
        errors=int(run.errors[used].sum()),
        seconds_used=seconds,
        seconds_left_out=int((settled & bad).sum()),
        steps=tuple(_measure_step(run, used, step) for step in range(len(run.steps))),
        utilisation={r.key: _mean(r.utilisation[used]) for r in run.resources},
        waiting={r.key: _mean(r.waiting[used]) for r in run.resources if r.waiting is not None},
        window=window,
    )


def _window(used: BoolArray) -> Window:
    """Blocks of 5 s, shorter where the level would otherwise have fewer than four."""
    seconds = int(used.sum())
    length = max(1, min(BLOCK_S, seconds // MIN_BLOCKS))
    blocks = max(1, seconds // length)
    block = np.full(used.shape, -1, dtype=np.int64)
    block[used] = np.minimum(np.arange(seconds) // length, blocks - 1)
    return Window(used, block, blocks)


def _measure_step(run: RunData, used: BoolArray, step: int) -> StepLevel:
    merged = run.histograms.merged(used, [step])
    completions, errors = int(run.completed[used, step].sum()), int(run.errors[used, step].sum())
    good = completions - errors
    return StepLevel(
        step=step,
        throughput=good / int(used.sum()),
        response_s=float(run.response_sum_s[used, step].sum()) / good if good else np.nan,
        p50_s=percentile_s(merged, 50),
        p95_s=percentile_s(merged, 95),
        p99_s=percentile_s(merged, 99),
        completions=completions,
        errors=errors,
    )


def _with_pooled_errors(levels: list[Level]) -> tuple[Level, ...]:
    """Standard errors shrunk half-way towards the run's typical dispersion.

    A few blocks estimate a variance badly, and a level whose blocks agree by chance would get a
    huge weight. The dispersion (variance over that of a Poisson count) is alike across levels.
    """
    poisson = np.array([lv.throughput / lv.seconds_used for lv in levels])
    own = np.array([lv.throughput_se**2 for lv in levels])
    known = np.isfinite(own) & (poisson > 0)
    typical = float(np.median(own[known] / poisson[known])) if known.any() else 1.0
    pooled = [
        np.sqrt((o + typical * p) / 2) if ok else np.sqrt(typical * p)
        for o, p, ok in zip(own, poisson, known, strict=True)
    ]
    return tuple(replace(lv, throughput_se=float(se)) for lv, se in zip(levels, pooled, strict=True))


def _mean(values: FloatArray) -> float:
    present = values[np.isfinite(values)]
    return float(present.mean()) if present.size else float("nan")
