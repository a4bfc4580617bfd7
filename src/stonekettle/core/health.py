"""Was the generator fit to measure, second by second?

A generator that is short of cpu, starts requests late, or does not carry the planned users
measures itself. Such seconds are strained and left out of every finding.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.run_data import RunData
from stonekettle.core.types import BoolArray, FloatArray

CPU_WATCH = 0.60
CPU_STRAINED = 0.80
LATE_START_S = 0.005
"""A start later than this is late; its 99th percentile beyond it marks strain."""
LATE_SHARE = 0.01
LATE_WINDOW_S = 10
OFF_PLAN_SHARE = 0.02


@dataclass(frozen=True)
class GeneratorHealth:
    """The verdict over a run. ``strained_seconds`` of ``seconds`` were left out."""

    verdict: Literal["good", "watch", "strained"]
    seconds: int
    strained_seconds: int
    gap_seconds: int
    peak_cpu: float
    late_share: float


def gaps(run: RunData) -> BoolArray:
    """Seconds in which no generator reported, shape (n,)."""
    return np.isnan(run.users)


def strained(run: RunData) -> BoolArray:
    """Seconds in which the generators were not fit to measure, shape (n,).

    Lateness is judged over a window around the second, as one second holds too few starts for a
    99th percentile; only the seconds that hold late starts are then marked.
    """
    cpu = np.nan_to_num(run.generator_cpu) > CPU_STRAINED
    started = run.started.sum(axis=1).astype(np.float64)
    late = np.nan_to_num(run.late_starts)
    window = np.ones(LATE_WINDOW_S)
    late_near, started_near = _moving_sum(late, window), _moving_sum(started, window)
    behind = (late > 0) & (late_near > LATE_SHARE * started_near)
    return np.asarray(cpu | behind, dtype=np.bool_)


def off_plan(run: RunData) -> BoolArray:
    """Seconds whose users differ from the plan by over 2 % and more than one user, shape (n,)."""
    allowed = np.maximum(OFF_PLAN_SHARE * run.planned_users, 1.0)
    return np.asarray(np.abs(np.nan_to_num(run.users) - run.planned_users) > allowed, dtype=np.bool_)


def assess(run: RunData) -> GeneratorHealth:
    """The generators' health over the seconds with planned load."""
    bad, silent = strained(run), gaps(run)
    loaded = (np.nan_to_num(run.users) > 0) & (run.planned_users > 0)
    seconds = int(loaded.sum())
    cpu = np.nan_to_num(run.generator_cpu)
    peak = float(np.percentile(cpu[loaded], 95)) if seconds else 0.0
    starts = int(run.started.sum())
    late_share = float(np.nansum(run.late_starts)) / starts if starts else 0.0
    strained_share = float(bad[loaded].mean()) if seconds else 0.0
    verdict: Literal["good", "watch", "strained"] = "good"
    if strained_share > 0.25 or peak > CPU_STRAINED:
        verdict = "strained"
    elif peak > CPU_WATCH or strained_share > 0.05:
        verdict = "watch"
    return GeneratorHealth(verdict, seconds, int(bad[loaded].sum()), int(silent.sum()), peak, late_share)


def _moving_sum(values: FloatArray, window: FloatArray) -> FloatArray:
    return (
        np.convolve(values, window, mode="same")[: len(values)]
        if len(values) >= len(window)
        else (np.full_like(values, values.sum()))
    )
