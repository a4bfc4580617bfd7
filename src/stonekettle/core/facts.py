"""What comparison needs of a run, without the run: figures with their errors and block statistics.

Requests are not independent, so tests on them call like runs different in a third of cases; comparisons go by the
logs of 5-second block statistics instead (Welch 1947 on them). They are kept with each figure of a level: of its steps
the mean and percentiles, of its resources the demand, U·m/X, and of pools how long a place is held.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Set
from typing import NamedTuple

import numpy as np

from stonekettle.core.analysis import Analysis
from stonekettle.core.histogram import cropped, several_percentiles_s
from stonekettle.core.levels import Level, StepLevel, Window, best_times
from stonekettle.core.objectives import BreakingPoint, ComfortLimit
from stonekettle.core.run_data import RunData
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Estimate, FloatArray

WHOLE = ""
"""The subject of a figure that is of everything."""


class Fact(NamedTuple):
    """One figure of a run: of a ``level`` by its number, or of the whole run (None). ``subject`` is a step as
    "journey / step", the key of a resource, or everything. Times in seconds, rates per second, shares 0..1; NaN is
    unknown. ``n`` are the steps it rests on, where it rests on steps. ``blocks`` are the logs of its 5-second block
    statistics, in order of time, NaN where a block had none; of the processor time stolen by the host, which may be
    nothing, they are the shares themselves."""

    level: int | None
    subject: str
    figure: str
    value: float
    standard_error: float = math.nan
    n: int | None = None
    blocks: tuple[float, ...] = ()


def gather(run: RunData, analysis: Analysis, cost_per_hour: float | None = None) -> tuple[Fact, ...]:
    """All facts of a run and its findings; its system costs so much an hour, where that is known."""
    cost = () if cost_per_hour is None else (Fact(None, WHOLE, "cost per hour", cost_per_hour),)
    pools = {resource.key for resource in run.resources if resource.is_pool}
    return (
        *_of_the_run(analysis, pools),
        *cost,
        *(fact for level in analysis.levels for fact in _of_level(run, level)),
    )


def _cost(key: str, pools: Set[str]) -> str:
    """What a step costs at a resource: work, or the time it holds a place in a pool, which is no work of its own."""
    return "held" if key in pools else "demand"


def _of_the_run(analysis: Analysis, pools: Set[str]) -> Iterable[Fact]:
    comfort, point, breaking = analysis.comfort, analysis.saturation, analysis.breaking
    claims: list[tuple[str, str, Estimate | None]] = [
        (
            "comfort limit",
            WHOLE,
            comfort.load if isinstance(comfort, ComfortLimit) and comfort.status == "found" else None,
        ),
        ("saturation point", WHOLE, point.load if isinstance(point, Saturation) else None),
        ("throughput limit", WHOLE, point.throughput if isinstance(point, Saturation) else None),
        ("breaking point", WHOLE, breaking.load if isinstance(breaking, BreakingPoint) else None),
    ]
    for demand in analysis.demands:
        claims += [(_cost(demand.key, pools), demand.key, demand.demand_s), ("ceiling", demand.key, demand.ceiling)]
    return (
        Fact(None, subject, figure, found.value, found.standard_error)
        for figure, subject, found in claims
        if found is not None
    )


def _of_level(run: RunData, level: Level) -> Iterable[Fact]:
    number, window = level.number, level.window(run.seconds)
    lengths = np.bincount(window.block_of_second[window.used], minlength=window.blocks).astype(np.float64)
    yield Fact(number, WHOLE, "load", level.load.delivered)
    yield Fact(number, WHOLE, "throughput", level.throughput, level.throughput_se, level.completions)
    yield Fact(number, WHOLE, "error ratio", level.error_ratio, n=level.completions)
    stolen = _sums(np.nan_to_num(run.reasons.stolen), window)
    share = float(stolen.sum() / lengths.sum())
    yield Fact(number, WHOLE, "stolen", share, blocks=tuple((stolen / lengths).tolist()))
    for step in level.steps:
        yield from _of_step(run, level, step, window, lengths)
    rate = _sums(run.completed.sum(axis=1).astype(np.float64), window) / lengths
    for resource in run.resources:
        used = level.utilisation[resource.key]
        yield Fact(number, resource.key, "utilisation", used)
        if resource.kind != "memory" and used > 0:
            busy = _sums(np.nan_to_num(resource.utilisation * resource.capacity), window) / lengths
            with np.errstate(divide="ignore", invalid="ignore"):
                blocks = np.log(busy / rate)
            value = used * level.capacity[resource.key] / level.completion_rate
            figure = "held" if resource.is_pool else "demand"
            yield _with_blocks(number, resource.key, figure, value, level.completions, blocks)


def _of_step(run: RunData, level: Level, step: StepLevel, window: Window, lengths: FloatArray) -> Iterable[Fact]:
    cells = list(run.cells_of_steps[step.step])
    subject = f"{run.cells[cells[0]].journey} / {run.cells[cells[0]].step}"
    times = best_times(run, window.used, cells)
    counts = _sums(times.count[:, cells].sum(axis=1).astype(np.float64), window)
    sums = _sums(times.sum_s[:, cells].sum(axis=1), window)
    histograms, first = cropped(times.histograms.blocks(window.block_of_second, window.blocks, cells))
    succeeded = step.completions - step.errors
    yield Fact(
        level.number,
        subject,
        "error ratio",
        step.errors / step.completions if step.completions else math.nan,
        n=step.completions,
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        yield _with_blocks(level.number, subject, "throughput", step.throughput, succeeded, np.log(counts / lengths))
        yield _with_blocks(level.number, subject, "mean", step.response_s, succeeded, np.log(sums / counts))
        told = {50: step.p50_s, 95: step.p95_s, 99: step.p99_s}
        by_block = several_percentiles_s(histograms, tuple(told), first)
        for (percent, value), blocks in zip(told.items(), by_block, strict=True):
            yield _with_blocks(level.number, subject, f"p{percent}", value, succeeded, np.log(blocks))


def _with_blocks(level: int, subject: str, figure: str, value: float, n: int, logs: FloatArray) -> Fact:
    """A figure whose standard error comes from the spread of its blocks' logs (delta method)."""
    known = logs[np.isfinite(logs)]
    error = value * float(known.std(ddof=1)) / math.sqrt(known.size) if known.size > 1 else math.nan
    blocks = np.where(np.isfinite(logs), logs, np.nan)
    return Fact(level, subject, figure, value, error, n, tuple(blocks.tolist()))


def _sums(series: FloatArray, window: Window) -> FloatArray:
    sums = np.bincount(window.block_of_second[window.used], series[window.used], window.blocks)
    return np.asarray(sums, dtype=np.float64)
