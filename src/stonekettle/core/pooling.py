"""Several runs a side: each is one value then, and the spread between runs is the unit.

What a day or a cold start adds to a run is in that spread; the blocks of a run do not know it.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence

import numpy as np

from stonekettle.core.comparing import compare
from stonekettle.core.differences import CHANCE, MATTERS, ByLoad, Comparison, Difference, judged, student, told
from stonekettle.core.facts import Fact
from stonekettle.core.sampling import Grid, Side, Weights, levels_near
from stonekettle.core.types import FloatArray


def compare_sides(
    firsts: Sequence[Sequence[Fact]],
    seconds: Sequence[Sequence[Fact]],
    *,
    matters: float = MATTERS,
    full_from: float | None = None,
) -> Comparison:
    """Compare several runs with several others; of one and one as :func:`compare`. Each run is one value then, its mean
    log over the loads that all had, and the spread between the runs of a side is the unit (Welch 1947); a side of one
    run has the spread of the other. What a day or a cold start adds to a run is in it, which blocks do not know."""
    if len(firsts) == len(seconds) == 1:
        return compare(firsts[0], seconds[0], matters=matters, full_from=full_from)
    found, loads = _compared(firsts, seconds, _spread, matters, full_from)
    return judged(found, loads, matters)


Spread = Callable[[FloatArray, int], tuple[FloatArray, FloatArray, float]]
"""Told the logs of all runs (rows, those of the first side before) by load, and how many are of the first side: the log
ratios by load, their standard errors, and degrees of freedom."""


def _compared(
    firsts: Sequence[Sequence[Fact]],
    seconds: Sequence[Sequence[Fact]],
    spread: Spread,
    matters: float,
    full_from: float | None,
) -> tuple[list[Difference], list[float]]:
    """The differences, and the loads that all had."""
    found, common = [], set[float]()
    for figure, loads, logs in _logs(firsts, seconds, full_from):
        common |= set(loads.tolist())
        found.append(_difference(figure, loads, logs, len(firsts), spread, matters))
    return found, sorted(common)


def _logs(
    firsts: Sequence[Sequence[Fact]], seconds: Sequence[Sequence[Fact]], full_from: float | None
) -> Iterator[tuple[tuple[str, str], FloatArray, FloatArray]]:
    """Each figure that all runs have, with the loads at which they do and their mean logs there, shape (runs, loads).
    Throughput is told at loads of ``full_from`` and more alone."""
    every = [Side(facts) for runs in (firsts, seconds) for facts in runs]
    grid = min(every, key=lambda side: len(side.loads))
    near = [(load, [levels_near(side.loads, load) for side in every]) for load in sorted(set(grid.loads.values()))]
    at = [(load, weights) for load, own in near if len(weights := [w for w in own if w is not None]) == len(every)]
    full = [one for one in at if full_from is not None and one[0] >= full_from]
    everywhere, where_full = (_grids(some, len(every)) for some in (at, full))
    for figure in set.intersection(*(set(side.figures) for side in every)):
        loads, grids = everywhere if figure[1] != "throughput" else where_full
        if not grids:
            continue
        logs = np.array([side.samples(figure, grid).mean for side, grid in zip(every, grids, strict=True)])
        known = np.isfinite(logs).all(axis=0)
        if known.any():
            yield figure, loads[known], logs[:, known]


def _grids(at: Sequence[tuple[float, Sequence[Weights]]], runs: int) -> tuple[FloatArray, list[Grid]]:
    """The loads, and for each run what tells of them; nothing where there are none."""
    if not at:
        return np.array([]), []
    return np.array([load for load, _ in at]), [Grid.of([own[run] for _, own in at]) for run in range(runs)]


def _difference(
    figure: tuple[str, str], loads: FloatArray, logs: FloatArray, firsts: int, spread: Spread, matters: float
) -> Difference:
    mean, error, freedom = spread(logs.mean(axis=1, keepdims=True), firsts)
    ratios, errors, _ = spread(logs, firsts)
    reaches = student(1 - CHANCE / 2, freedom) * errors
    columns = (
        loads,
        *map(np.exp, (logs[:firsts].mean(axis=0), logs[firsts:].mean(axis=0), ratios - reaches, ratios + reaches)),
    )
    by_load = ByLoad(*(tuple(column.tolist()) for column in columns))
    return told(figure, float(mean[0]), float(error[0]), freedom, by_load, matters)


def _spread(logs: FloatArray, firsts: int) -> tuple[FloatArray, FloatArray, float]:
    """The log ratio of the second side's runs (rows) to the first's, its standard error, and degrees of freedom."""
    sides = (logs[:firsts], logs[firsts:])
    several = [side for side in sides if len(side) > 1]
    variances = [side.var(axis=0, ddof=1) for side in several]
    if len(several) == 1:
        variance = variances[0] * (1 / len(sides[0]) + 1 / len(sides[1]))
        freedom = len(several[0]) - 1.0
    else:
        parts = [v / len(side) for v, side in zip(variances, sides, strict=True)]
        variance = parts[0] + parts[1]
        whole = sum(float(part.mean()) for part in parts)
        spread = sum(float(part.mean()) ** 2 / (len(side) - 1) for part, side in zip(parts, sides, strict=True))
        freedom = whole**2 / spread if spread > 0 else len(logs) - 2.0
    return sides[1].mean(axis=0) - sides[0].mean(axis=0), np.sqrt(variance), freedom


def compare_blocks(
    firsts: Sequence[Sequence[Fact]],
    seconds: Sequence[Sequence[Fact]],
    *,
    matters: float = MATTERS,
    full_from: float | None = None,
    comparisons: int = 1,
) -> Comparison:
    """Compare two candidates that had a turn each in every block: turn by turn, ``firsts[i]`` with ``seconds[i]``.

    What drifts while they take turns is alike within a block, so the differences within blocks are the unit: of k of
    them Student's t with k − 1 degrees of freedom (Student 1908). 5-second blocks of a turn in which the host took
    processors away are left out. It is one of so many ``comparisons`` that share the chance of a false one. Raises
    :class:`ValueError` unless there are two blocks, each whole.
    """
    if len(firsts) != len(seconds) or len(firsts) < 2:
        raise ValueError("candidates are compared over two blocks and more, in each of which both had their turn")
    found, loads = _compared(firsts, seconds, _spread_of_pairs, matters, full_from)
    return judged(found, loads, matters, comparisons)


def block_ratios(
    firsts: Sequence[Sequence[Fact]], seconds: Sequence[Sequence[Fact]]
) -> dict[tuple[str, str], tuple[float, ...]]:
    """Block by block the second candidate's figures over the first's, at the loads that all turns had."""
    return {
        figure: tuple(np.exp(logs[len(firsts) :].mean(axis=1) - logs[: len(firsts)].mean(axis=1)).tolist())
        for figure, _, logs in _logs(firsts, seconds, None)
    }


def _spread_of_pairs(logs: FloatArray, firsts: int) -> tuple[FloatArray, FloatArray, float]:
    """As :func:`_spread`, by the differences within blocks."""
    apart = logs[firsts:] - logs[:firsts]
    return apart.mean(axis=0), apart.std(axis=0, ddof=1) / np.sqrt(firsts), firsts - 1.0


def random_effects(logs: FloatArray, variance: FloatArray) -> tuple[float, float]:
    """The mean of several runs' logs, each with its ``variance``, and how far another run's may be from it: as they
    differ from run to run (DerSimonian & Laird 1986)."""
    weight = 1 / variance
    mean = float(np.average(logs, weights=weight))
    spare = float((weight * (logs - mean) ** 2).sum()) - (logs.size - 1)
    scale = float(weight.sum() - (weight**2).sum() / weight.sum())
    between = max(0.0, spare / scale) if scale > 0 else 0.0
    weight = 1 / (variance + between)
    return float(np.average(logs, weights=weight)), math.sqrt(1 / float(weight.sum()) + between)
