"""Up to which load does every objective hold, and from which on do errors pass their limit?

Comfort limit: the log of the percentile is made monotone in load by isotonic regression (Barlow
et al. 1972), and the goal is crossed by log-linear interpolation; the lowest crossing over all
objectives decides. Where the curve of the mean response is known (:mod:`limit`), that crossing is only the place to
look: the log of the percentile over the level's own mean is fitted by a straight line in the log of load through the
levels around it (weighted least squares, each level by its standard error and by a part of what the curve rises from
there), and the goal is crossed by curve and line together. Its interval is of the fit, the curve's limit and 2 % (4 %
for steps that differ), and reaches further down: near saturation levels are shorter than queues take to build up.
Interval of the former: each level's log percentile ± 1.645 standard errors from a bootstrap of 5-second blocks,
isotonic regression on both bands, their crossings, then a quarter of a level step down and a tenth up for the
interpolation itself.

Measured times have two ends, and so has the load: the lower band is of recorded times on the load less
what was blind of it, the upper one of recorded less blind times on all that was delivered. Where that widens the
answer by over a quarter of itself, it is withheld.

A level that misses a goal for sure (by 1.645 standard errors) below the load at which it stops holding, or in a run
in which it holds, is told: as a pause or a burst of other work, it is no limit, and no reason for silence.

The mean, the error ratio and what an Apdex score lacks of 1 are crossed in the same way; their errors are those of
ratios of sums over blocks (Cochran 1977).

Breaking point: where the error ratio passes its limit, between the last level under it for sure before and the first
one over it for sure (one-sided 95 % bounds of Wilson 1927), and inside that by linear interpolation. Errors come in
bursts, so the sample is shrunk by the dispersion between blocks. Where a higher level is under the limit for sure
again, the system has recovered.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import scipy
from scipy import special

from stonekettle.core.histogram import bucket_of, cropped, percentiles_s
from stonekettle.core.levels import Level, best_times, percentile_ends
from stonekettle.core.limit import Response
from stonekettle.core.run_data import RunData
from stonekettle.core.types import Declined, Estimate, FloatArray, Reason

REPLICATES = 200
Z_90 = 1.645
STEP_DOWN, STEP_UP = 0.25, 0.10
MIN_STEP_COMPLETIONS = 30
AGEING = 0.3
LEAST_NEAR, MOST_NEAR, NEAR = 3, 6, 0.7
"""Levels around a crossing by which it is found along the curve: so many, within so much of it in the log of load."""
RISE_ERROR, TILT_ERROR, LEAST_RATIO_ERROR, LEAST_RISING = 0.15, 0.2, 0.01, 0.5
CURVE_ERROR, MIXED_ERROR = 0.02, 0.04
"""Share of a load by which the curve may be off; more where steps differ, whose mix is never quite the planned one."""
UNSETTLED, MOST_UNSETTLED = 0.01, 0.12
"""Levels are too short for the longest queues: the true limit may be lower by so much of the services' variation."""
MOST_VARIATION, MOST_MIXED_VARIATION = 3.0, 12.0
"""Where a few services take most of the time, the curve bends in ways that it does not know. Steps that differ vary by
themselves: one in four that asks a resource at all makes 7 of 1."""
GRID, AROUND = 300, 10
MOST_BLUR = 0.5
"""A comfort limit whose two ends differ by a larger share of it is not claimed; its interval has both ends in it."""


@dataclass(frozen=True)
class Objective:
    """A promise: ``percent`` of ``steps`` within ``limit`` seconds, their ``mean`` within it, errors under ``limit``
    (ratio), or an Apdex score of ``limit`` (0..1) with the target time ``target_s``.

    ``steps`` are indices into the run's steps, None for all requests together. One that does not decide is judged, and
    does not count for the comfort limit.
    """

    number: int
    kind: Literal["response", "mean", "errors", "apdex"]
    limit: float
    percent: float = 95.0
    steps: tuple[int, ...] | None = None
    target_s: float = 0.0
    decides: bool = True


@dataclass(frozen=True)
class ObjectiveResult:
    """One objective over the levels. ``values`` has one entry per level (s, ratio or score), NaN if unknown.

    ``load`` is the one at which it stops holding, None while it holds everywhere;
    ``broken_everywhere`` when even the lowest level misses it. ``missed_at`` are the loads below it at which a level
    missed it all the same. ``blur`` is how much of its interval
    the measuring made, as a share of it.
    """

    objective: Objective
    level_loads: tuple[float, ...]
    values: tuple[float, ...]
    load: Estimate | None
    broken_everywhere: bool
    blur: float = 0.0
    missed_at: tuple[float, ...] = ()

    @property
    def holds(self) -> bool:
        return self.load is None


@dataclass(frozen=True)
class ComfortLimit:
    """The highest load at which every objective holds.

    Status ``found`` with ``load``; ``holds`` up to at least ``tested``; ``below`` when an
    objective is broken at the lowest level already. ``throughput`` is read at that load.
    """

    status: Literal["found", "holds", "below"]
    load: Estimate | None
    tested: float
    throughput: float
    deciding: Objective | None
    results: tuple[ObjectiveResult, ...]


@dataclass(frozen=True)
class BreakingPoint:
    """The load at which errors pass ``limit``. ``level`` is the first one over it for sure, with its ``error_ratio``;
    ``recovered_at`` the next load with fewer for sure, None where there is none."""

    limit: float
    level: int
    load: Estimate
    error_ratio: float
    recovered_at: float | None = None


@dataclass(frozen=True)
class FirstError:
    """The first error of one kind: the second of the run and the load then: users present, or arrivals ordered."""

    kind: str
    second: int
    load: float
    count: int


def comfort_limit(
    run: RunData,
    levels: Sequence[Level],
    objectives: Sequence[Objective],
    seed: int = 1,
    *,
    aged: float = 0.0,
    response: Response | None = None,
) -> ComfortLimit | Declined:
    """The comfort limit of a run over its levels, ordered by load. ``aged`` is by how much what a step costs changed
    meanwhile: the interval is wider by a part of it. ``response`` is the curve of the mean response, if it is known."""
    levels = sorted(levels, key=lambda lv: lv.load.delivered)
    if not objectives:
        return Declined(Reason.NO_OBJECTIVES)
    if not levels:
        return Declined(Reason.TOO_FEW_LEVELS)
    random = np.random.default_rng(seed)
    if response is not None and 0 < levels[0].load.delivered < levels[-1].load.delivered:
        response = response.tabled(levels[0].load.delivered, levels[-1].load.delivered)
    results = tuple(_judge(run, levels, objective, random, response) for objective in objectives)
    if not any(objective.decides for objective in objectives):
        return Declined(Reason.NO_OBJECTIVES)
    tested = levels[-1].load.delivered
    broken = [(r, r.load) for r in results if r.load is not None and r.objective.decides]
    if not broken:
        return ComfortLimit("holds", None, tested, levels[-1].throughput, None, results)
    deciding, _ = min(broken, key=lambda pair: pair[1].value)
    if deciding.blur > MOST_BLUR:
        return Declined(Reason.BLURRED, tested)
    everywhere = deciding.broken_everywhere
    # Below the lowest level nothing was measured: the limit may lie anywhere there.
    low = 0.0 if everywhere else min(e.low for _, e in broken)
    high = min(e.high for _, e in broken)
    wider = 1 + AGEING * aged
    load = Estimate(min(e.value for _, e in broken), low / wider, high * wider)
    throughput = _throughput_at(levels, load.value)
    status: Literal["found", "below"] = "below" if everywhere else "found"
    return ComfortLimit(status, load, tested, throughput, deciding.objective, results)


def breaking_point(run: RunData, levels: Sequence[Level], limit: float) -> BreakingPoint | Declined:
    """Where the error ratio passes ``limit``, and whether for good."""
    levels = sorted(levels, key=lambda lv: lv.load.delivered)
    if not levels:
        return Declined(Reason.TOO_FEW_LEVELS)
    loads = [lv.load.delivered for lv in levels]
    bounds = [wilson(lv.error_ratio, _effective_n(run, lv)) for lv in levels]
    first = next((i for i, (lower, _) in enumerate(bounds) if lower > limit), None)
    if first is None:
        return Declined(Reason.NOT_REACHED, loads[-1])
    under = [i for i, (_, upper) in enumerate(bounds) if upper < limit]
    low = max((loads[i] for i in under if i < first), default=0.0)
    again = next((loads[i] for i in under if i > first), None)
    ratios = [lv.error_ratio for lv in levels[: first + 1]]
    below = max((i for i in range(first) if ratios[i] <= limit), default=None)
    value = loads[0] if below is None else _between(loads, ratios, below, limit)
    point = Estimate(value, min(low, value), loads[first], 0.95)
    return BreakingPoint(limit, levels[first].number, point, levels[first].error_ratio, again)


def _between(loads: Sequence[float], ratios: Sequence[float], below: int, limit: float) -> float:
    """Where the line from a level under the limit to the next one, over it, passes it."""
    share = (limit - ratios[below]) / (ratios[below + 1] - ratios[below])
    return loads[below] + share * (loads[below + 1] - loads[below])


def first_errors(run: RunData) -> tuple[FirstError, ...]:
    """The first error of each kind, earliest first."""
    load = run.arrivals.ordered if run.arrivals is not None and run.arrivals.alone else run.users
    found = []
    for kind, every in run.error_kinds.items():
        counts = every * run.counting
        if counts.sum() > 0:
            second = int(np.argmax(counts > 0))
            found.append(FirstError(kind, second, float(load[second]), int(counts.sum())))
    return tuple(sorted(found, key=lambda error: error.second))


@dataclass(frozen=True)
class Curve:
    """An objective's figure over the levels, four arrays of shape (k,): the logs of its upper and lower
    end, their standard error, and how much may not have been load."""

    high: FloatArray
    low: FloatArray
    se: FloatArray
    blind: FloatArray


def _judge(
    run: RunData,
    levels: Sequence[Level],
    objective: Objective,
    random: np.random.Generator,
    response: Response | None,
) -> ObjectiveResult:
    loads, blind = np.array([lv.load.delivered for lv in levels]), np.array([lv.load.blind for lv in levels])
    goal = math.log(objective.limit if objective.kind != "apdex" else max(1 - objective.limit, 1e-6))
    if objective.kind == "apdex":
        values, curve = _apdex(run, levels, objective, blind)
    elif objective.kind == "mean":
        values, curve = _means(run, levels, objective, blind)
    elif objective.kind == "errors":
        values = np.array([_error_ratio(lv, objective.steps) for lv in levels])
        n = np.array([_effective_n(run, lv) for lv in levels])
        # Add one half to both sides (Haldane 1956): a ratio of zero has no logarithm.
        logs = np.log((values * n + 0.5) / (n + 1))
        se = np.sqrt((1 - values) / np.maximum(values * n + 0.5, 0.5))
        se = np.where(values * n < 1, 0.0, np.minimum(se, 1.0))
        curve = Curve(logs, logs, se, blind)
    else:
        values, lows, se = _percentiles(run, levels, objective, random)
        curve = Curve(np.log(np.maximum(values, 1e-6)), np.log(np.maximum(lows, 1e-6)), se, blind)
    known = np.isfinite(values)
    estimate, everywhere, blur, missed = None, False, 0.0, np.zeros(0)
    if known.any():
        curve = Curve(curve.high[known], curve.low[known], curve.se[known], curve.blind[known])
        estimate, everywhere, blur = crossing_interval(loads[known], curve, goal)
        timed = objective.kind in ("response", "mean")
        if estimate is not None and not everywhere and response is not None and timed:
            told = [lv for lv, there in zip(levels, known, strict=True) if there]
            estimate = _settled(told, curve, objective.limit, response, estimate)
        for_sure = curve.low - Z_90 * curve.se > goal
        missed = loads[known][for_sure & (loads[known] < (estimate.value if estimate else math.inf))]
    return ObjectiveResult(
        objective,
        tuple(loads.tolist()),
        tuple(values.tolist()),
        estimate,
        everywhere,
        blur,
        tuple(missed.tolist()),
    )


def _percentiles(
    run: RunData, levels: Sequence[Level], objective: Objective, random: np.random.Generator
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """The percentile at each level as recorded and less blind times (s), and the standard error of its log."""
    values, lows, errors = (np.full(len(levels), np.nan) for _ in range(3))
    cells = run.cells_of(objective.steps)
    for i, level in enumerate(levels):
        window = level.window(run.seconds)
        times = best_times(run, window.used, cells)
        blocks = times.histograms.blocks(window.block_of_second, window.blocks, cells)
        if blocks.sum() < MIN_STEP_COMPLETIONS:
            continue
        counts, first = cropped(blocks)
        (values[i],), (lows[i],) = percentile_ends(run, window.used, level.bunch_s, (objective.percent,), cells)
        if window.blocks >= 3:
            shares = np.full(window.blocks, 1 / window.blocks)
            weights = random.multinomial(window.blocks, shares, REPLICATES).astype(np.float64)
            again = percentiles_s(weights @ counts, objective.percent, first)
            errors[i] = float(np.std(np.log(np.maximum(again, 1e-6))))
    typical = np.nanmedian(errors) if np.isfinite(errors).any() else 0.0
    return values, lows, np.where(np.isfinite(errors), np.sqrt((errors**2 + typical**2) / 2), typical)


def _means(run: RunData, levels: Sequence[Level], objective: Objective, blind: FloatArray) -> tuple[FloatArray, Curve]:
    """The mean response at each level (s), its logs as recorded and less blind times, and their error."""
    values, lows, se = (np.full(len(levels), np.nan) for _ in range(3))
    cells = run.cells_of(objective.steps)
    chosen = slice(None) if cells is None else cells
    for i, level in enumerate(levels):
        window = level.window(run.seconds)
        times = best_times(run, window.used, cells)
        block = window.block_of_second[window.used]
        counts, sums, unseen = (
            np.bincount(block, series[window.used][:, chosen].sum(axis=1), window.blocks)
            for series in (times.count, times.sum_s, times.blind_sum_s)
        )
        if counts.sum() < MIN_STEP_COMPLETIONS:
            continue
        values[i] = sums.sum() / counts.sum()
        lows[i] = max(0.0, values[i] - unseen.sum() / counts.sum() - level.bunch_s)
        if window.blocks >= 3:
            off = sums - values[i] * counts
            scale = window.blocks / (window.blocks - 1)
            se[i] = math.sqrt(scale * float((off**2).sum())) / float(sums.sum())
    typical = float(np.nanmedian(se)) if np.isfinite(se).any() else 0.0
    high, low = (np.log(np.maximum(ends, 1e-6)) for ends in (values, lows))
    return values, Curve(high, low, np.where(np.isfinite(se), se, typical), blind)


def _apdex(run: RunData, levels: Sequence[Level], objective: Objective, blind: FloatArray) -> tuple[FloatArray, Curve]:
    """The Apdex score at each level (Apdex Alliance 2007: within T one, within 4T a half, later or failed nothing), and
    the log of what it lacks of 1, by recorded times and by those less blind ones."""
    values, lows, se = (np.full(len(levels), np.nan) for _ in range(3))
    cells = run.cells_of(objective.steps)
    chosen = slice(None) if cells is None else cells
    edges = bucket_of(np.round(np.array([objective.target_s, 4 * objective.target_s]) * 1e6).astype(np.int64)) + 1
    for i, level in enumerate(levels):
        window = level.window(run.seconds)
        times = best_times(run, window.used, cells)
        block = window.block_of_second[window.used]
        failed = np.bincount(block, run.errors[window.used][:, chosen].sum(axis=1), window.blocks)
        scores = []
        for histograms in (times.histograms, times.low_histograms):
            counts = histograms.blocks(window.block_of_second, window.blocks, cells)
            within = [counts[:, :edge].sum(axis=1) for edge in edges]
            scores.append(((within[0] + within[1]) / 2, counts.sum(axis=1) + failed))
        (met, n), _ = scores
        if n.sum() < MIN_STEP_COMPLETIONS:
            continue
        values[i] = met.sum() / n.sum()
        # One half to both sides (Haldane 1956): nothing that lacks has no logarithm.
        lacks, lacks_low = ((total.sum() - good.sum() + 0.5) / (total.sum() + 1) for good, total in scores)
        lows[i] = lacks_low
        if window.blocks >= 3:
            off = met - values[i] * n
            scale = window.blocks / (window.blocks - 1)
            se[i] = min(1.0, math.sqrt(scale * float((off**2).sum())) / float(n.sum()) / lacks)
    typical = float(np.nanmedian(se)) if np.isfinite(se).any() else 0.0
    high = np.log(np.maximum(1 - values, 1e-6))
    return values, Curve(high, np.log(np.maximum(lows, 1e-6)), np.where(np.isfinite(se), se, typical), blind)


def crossing_interval(loads: FloatArray, curve: Curve, goal: float) -> tuple[Estimate | None, bool, float]:
    """Where the ``goal`` (a log) is crossed, whether at the lowest level already, and the share of it that is blur."""
    felt = loads - curve.blind
    ends = (
        _crossing(felt, scipy.optimize.isotonic_regression(curve.high).x, goal),
        _crossing(loads, scipy.optimize.isotonic_regression(curve.low).x, goal),
    )
    middle = _crossing(
        loads - curve.blind / 2, scipy.optimize.isotonic_regression((curve.high + curve.low) / 2).x, goal
    )
    if middle is None:
        return None, False, 0.0
    early = _crossing(felt, _monotone(curve.high + Z_90 * curve.se), goal)
    late = _crossing(loads, _monotone(curve.low - Z_90 * curve.se), goal)
    step = float(np.median(np.diff(loads))) if len(loads) > 1 else float(loads[0])
    low = min(early if early is not None else middle, middle) - STEP_DOWN * step
    high = max(late if late is not None else float(loads[-1]), middle) + STEP_UP * step
    first, last = (end if end is not None else float(loads[-1]) for end in ends)
    return Estimate(middle, max(low, 0.0), high), middle <= loads[0], max(0.0, last - first) / middle


def _monotone(logs: FloatArray) -> FloatArray:
    return np.asarray(scipy.optimize.isotonic_regression(logs).x, dtype=np.float64)


def _settled(levels: Sequence[Level], curve: Curve, limit: float, response: Response, rough: Estimate) -> Estimate:
    """The crossing near a ``rough`` one as it would be if levels were long enough for every queue."""
    if response.variation2 > (MOST_MIXED_VARIATION if len(levels[0].steps) > 1 else MOST_VARIATION):
        return replace(rough, low=rough.low * (1 - MOST_UNSETTLED), high=rough.high * (1 + MIXED_ERROR))
    return _along_the_curve(levels, curve, limit, response, rough) or rough


def _along_the_curve(
    levels: Sequence[Level], curve: Curve, limit: float, response: Response, rough: Estimate
) -> Estimate | None:
    """The crossing near a ``rough`` one by the curve of the mean response; None where the levels around do not bear
    it. Of each level's percentile only the ratio to its own mean counts: a queue that has not built up yet, or has by
    chance, moves both alike."""
    loads = np.array([lv.load.delivered for lv in levels])
    near = np.argsort(np.abs(np.log(loads / rough.value)))[:MOST_NEAR]
    near = np.sort(near[np.abs(np.log(loads[near] / rough.value)) < NEAR])
    if near.size < LEAST_NEAR:
        return None
    mean = np.log(np.array([lv.response_s for lv in levels]))
    here = float(np.log(response.curve(np.array([rough.value])))[0])
    rise = np.log(response.curve(loads[near])) - here
    x, y = np.log(loads[near] / rough.value), ((curve.high + curve.low) / 2 - mean)[near]
    weight = 1 / (np.maximum(curve.se[near], LEAST_RATIO_ERROR) ** 2 + (RISE_ERROR * rise) ** 2)
    design = np.stack([np.ones_like(x), x])
    covariance = np.linalg.inv(design * weight @ design.T + np.diag([0.0, 1 / TILT_ERROR**2]))
    shift, tilt = covariance @ (design * weight @ y)
    grid = np.linspace(loads[near[0]], loads[near[-1]], GRID)
    over = np.log(response.curve(grid)) + shift + tilt * np.log(grid / rough.value) - math.log(limit)
    value = _crossing(grid, over, 0.0)
    if value is None or value <= grid[0]:
        return None
    at = int(np.clip(np.searchsorted(grid, value), AROUND, GRID - AROUND - 1))
    rising = float((over[at + AROUND] - over[at - AROUND]) / np.log(grid[at + AROUND] / grid[at - AROUND]))
    place = np.array([1.0, math.log(value / rough.value)])
    misfit = max(1.0, float((weight * (y - shift - tilt * x) ** 2).sum()) / (near.size - 1))
    of_levels = math.sqrt(float(place @ covariance @ place) * misfit) / max(rising, LEAST_RISING)
    mixed = MIXED_ERROR if len(levels[0].steps) > 1 else CURVE_ERROR
    share = math.hypot(float(special.stdtrit(near.size + 1, 0.95)) * of_levels, math.hypot(response.error, mixed))
    # The two ends of what was measured.
    apart = float(np.interp(value, loads, np.maximum(curve.high - curve.low, 0.0))) / max(rising, LEAST_RISING) / 2
    apart += float(np.interp(value, loads, curve.blind)) / value / 2
    early = min(UNSETTLED * response.variation2, MOST_UNSETTLED) + CURVE_ERROR
    return Estimate(value, max(0.0, value * (1 - share - apart - early)), value * (1 + share + apart))


def _crossing(loads: FloatArray, logs: FloatArray, goal: float) -> float | None:
    above = np.flatnonzero(logs > goal)
    if not above.size:
        return None
    first = int(above[0])
    if first == 0:
        return float(loads[0])
    share = (goal - logs[first - 1]) / (logs[first] - logs[first - 1])
    return float(loads[first - 1] + share * (loads[first] - loads[first - 1]))


def _throughput_at(levels: Sequence[Level], load: float) -> float:
    loads, rates = [lv.load.delivered for lv in levels], [lv.throughput for lv in levels]
    return float(np.interp(load, [0.0, *loads], [0.0, *rates]))


def _error_ratio(level: Level, steps: tuple[int, ...] | None) -> float:
    chosen = [s for s in level.steps if steps is None or s.step in steps]
    completions = sum(s.completions for s in chosen)
    return sum(s.errors for s in chosen) / completions if completions else math.nan


def _effective_n(run: RunData, level: Level) -> float:
    """Completions, shrunk by how much more the errors vary between blocks than chance allows."""
    window = level.window(run.seconds)
    ratio = level.error_ratio
    if window.blocks < 3 or ratio in (0.0, 1.0):
        return float(level.completions)
    block = window.block_of_second[window.used]
    done = np.bincount(block, run.completed[window.used].sum(axis=1), window.blocks)
    failed = np.bincount(block, run.errors[window.used].sum(axis=1), window.blocks)
    expected = done * ratio * (1 - ratio)
    excess = float(((failed - done * ratio) ** 2).sum() / expected.sum())
    return level.completions / max(1.0, excess)


def wilson(ratio: float, n: float) -> tuple[float, float]:
    """One-sided 95 % bounds of a ratio."""
    if n <= 0:
        return 0.0, 1.0
    z2 = Z_90**2
    centre = ratio + z2 / (2 * n)
    reach = Z_90 * math.sqrt(ratio * (1 - ratio) / n + z2 / (4 * n * n))
    return (centre - reach) / (1 + z2 / n), (centre + reach) / (1 + z2 / n)
