"""Is one run faster or slower than another, or is there no difference that could have been seen?

Requests are not independent: tests on them call like runs different in a third of cases. Figures are compared by the
logs of their 5-second block statistics instead, level by level at equal delivered load (Welch 1947, with the degrees of
freedom of Satterthwaite 1946), and pooled over levels by the mean log ratio: never by any one level. Blocks that follow
each other are alike near saturation; their correlation, taken over all levels of both runs, widens the error as that of
a first-order process (Bayley & Hammersley 1946).
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy import special

from stonekettle.core.analysis import Analysis
from stonekettle.core.differences import CHANCE, MATTERS, ByLoad, Comparison, Difference, judged, told
from stonekettle.core.facts import WHOLE, Fact
from stonekettle.core.sampling import SAME_LOAD, Grid, Samples, Side, Weights, levels_near
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import FloatArray

MOST_ALIKE = 0.6
UNSURE = 0.75
"""So many standard errors are added to how much blocks are alike: it is itself an estimate."""


def compare(
    first: Sequence[Fact], second: Sequence[Fact], *, matters: float = MATTERS, full_from: float | None = None
) -> Comparison:
    """Compare the ``second`` run with the ``first`` by their facts. A difference of a share under ``matters`` is none.
    Throughput is compared at loads of ``full_from`` and more alone, where both systems were full."""
    a, b = Side(first), Side(second)
    pairs = list(_pairs(a, b))
    full = [pair for pair in pairs if full_from is not None and pair[0] >= full_from]
    everywhere, where_full = (_Pairs.of(some) if some else None for some in (pairs, full))
    found = []
    for figure in a.figures.keys() & b.figures.keys():
        at = everywhere if figure[1] != "throughput" else where_full
        one = _difference(a, b, figure, at, matters) if at is not None else None
        if one is not None:
            found.append(one)
    return judged(found, [load for load, _, _ in pairs], matters)


@dataclass(frozen=True)
class Beside:
    """Plain figures of two runs, the first's and the second's, at the loads that both had: the share of steps that
    failed over all of them, and the throughput (per second) at the highest, ``load``."""

    load: float
    errors: tuple[float, float]
    throughput: tuple[float, float]


def beside(first: Sequence[Fact], second: Sequence[Fact]) -> Beside | None:
    """Errors and throughput at the loads that both runs had; None where they had none in common."""
    a, b = (Side(fact for fact in facts if fact.subject == WHOLE) for facts in (first, second))
    pairs = sorted(_pairs(a, b))
    if not pairs:
        return None
    errors, steps = np.zeros(2), np.zeros(2)
    for _, *weights in pairs:
        for place, (side, own) in enumerate(zip((a, b), weights, strict=True)):
            done, failed = side.value("throughput", own), side.value("error ratio", own)
            # Throughput counts successes alone.
            every = done / (1 - failed) if failed < 1 else 1.0
            steps[place] += every
            errors[place] += every * failed
    load, of_a, of_b = pairs[-1]
    shares = errors / np.maximum(steps, 1e-12)
    rates = (a.value("throughput", of_a), b.value("throughput", of_b))
    return Beside(load, (float(shares[0]), float(shares[1])), rates)


def full_from(first: Analysis, second: Analysis) -> float | None:
    """From which load on both systems were full; None where that is not known of both."""
    points = [one.saturation.load for one in (first, second) if isinstance(one.saturation, Saturation)]
    known = [point.value for point in points if point is not None]
    return max(known) if len(known) == 2 else None


def _pairs(a: Side, b: Side) -> Iterable[tuple[float, Weights, Weights]]:
    """Loads that both runs had, with the levels that tell of them: one to one where their loads are alike, otherwise
    at the levels of the run that has fewer."""
    grid, other, turned = (b, a, False) if len(b.loads) <= len(a.loads) else (a, b, True)
    taken: set[int] = set()
    for level, load in sorted(grid.loads.items()):
        alike = [n for n, at in other.loads.items() if abs(at / load - 1) <= SAME_LOAD and n not in taken]
        # A load that comes again, as the check level does, goes with the same turn of the other run.
        best = min(alike, key=lambda n: (n != level, abs(other.loads[n] / load - 1)), default=None)
        weights: Weights | None = ((best, 1.0),) if best is not None else levels_near(other.loads, load)
        if weights is None:
            continue
        if best is not None:
            taken.add(best)
        own: Weights = ((level, 1.0),)
        yield (load, own, weights) if turned else (load, weights, own)


@dataclass(frozen=True)
class _Pairs:
    """Loads that both runs had, and what tells of them in each."""

    loads: FloatArray
    first: Grid
    second: Grid

    @classmethod
    def of(cls, pairs: Sequence[tuple[float, Weights, Weights]]) -> _Pairs:
        loads, first, second = zip(*pairs, strict=True)
        return cls(np.array(loads), Grid.of(first), Grid.of(second))


def _difference(a: Side, b: Side, figure: tuple[str, str], at: _Pairs, matters: float) -> Difference | None:
    loads, one, other = at.loads, a.samples(figure, at.first), b.samples(figure, at.second)
    known = np.isfinite(one.mean) & np.isfinite(other.mean)
    count = int(known.sum())
    if not count:
        return None
    loads, one, other = loads[known], one.only(known), other.only(known)
    ratios, variances, freedoms = _welch(one, other, _alike(one, other))
    mean, variance = float(ratios.mean()), float(variances.sum()) / count**2
    freedom = variance**2 / float(((variances / count**2) ** 2 / freedoms).sum()) if variance > 0 else math.inf
    reaches = special.stdtrit(np.maximum(freedoms, 1.0), 1 - CHANCE / 2) * np.sqrt(variances)
    columns = (loads, *map(np.exp, (one.mean, other.mean, ratios - reaches, ratios + reaches)))
    by_load = ByLoad(*(tuple(column.tolist()) for column in columns))
    return told(figure, mean, math.sqrt(variance), freedom, by_load, matters)


def _alike(*samples: Samples) -> float:
    """By how much blocks that are alike one after the other make the variance of a mean larger."""
    squares, products, blocks, levels = (
        float(sum(getattr(one, name).sum() for one in samples)) for name in ("squares", "products", "blocks", "levels")
    )
    if squares <= 0:
        return 1.0
    # Of a few blocks about their own mean less is seen than there is: (1 + 3ρ)/n less (Kendall 1954).
    n = blocks / levels
    lag = (products / squares + 1 / n) / max(0.25, 1 - 3 / n)
    lag += UNSURE / math.sqrt(blocks)
    alike = min(max(lag, 0.0), MOST_ALIKE)
    return (1 + alike) / (1 - alike)


def _welch(one: Samples, other: Samples, wider: float) -> tuple[FloatArray, FloatArray, FloatArray]:
    """The log ratios of the second to the first, their variances and degrees of freedom."""
    u, v = wider * one.variance, wider * other.variance
    spread = u**2 / one.freedom + v**2 / other.freedom
    freedom = np.where(spread > 0, (u + v) ** 2 / np.where(spread > 0, spread, 1.0), one.freedom + other.freedom)
    return other.mean - one.mean, u + v, np.asarray(freedom / wider)
