"""Is one run faster or slower than another, or is there no difference that could have been seen?

Requests are not independent: tests on them call like runs different in a third of cases. Figures are compared by the
logs of their 5-second block statistics instead, level by level at equal delivered load (Welch 1947, with the degrees of
freedom of Satterthwaite 1946), and pooled over levels by the mean log ratio: never by any one level. Blocks that follow
each other are alike near saturation; their correlation, taken over all levels of both runs, widens the error as that of
a first-order process (Bayley & Hammersley 1946). Where loads differ, a figure is interpolated in the log of the load.
Blocks in which the host took processors away are left out.

One figure is called faster or slower at 5 % of chance. A whole comparison is at 5 % of chance too: its figures are
judged together (Holm 1979).
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from typing import Literal

import numpy as np
from scipy import special

from stonekettle.core.analysis import Analysis
from stonekettle.core.facts import WHOLE, Fact
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import BoolArray, Estimate, FloatArray

SAME_LOAD = 0.03
"""Loads that differ by no larger share are the same."""
WIDEST_GAP = 2.0
"""Between two levels whose loads differ by a larger factor nothing is interpolated."""
STOLEN = 0.03
LEAST_BLOCKS = 4
MATTERS = 0.05
"""A difference smaller than this does not matter, unless somebody says otherwise."""
LARGEST_UNSEEN = 0.25
"""Where more than this might have gone unseen, nothing is said."""
MOST_ALIKE = 0.6
UNSURE = 0.75
"""So many standard errors are added to how much blocks are alike: it is itself an estimate."""
CHANCE = 0.05
POWER = 0.80
_MOST_LOG = 20.0
"""Of two runs a side an interval can be beyond all numbers."""
TIMES = ("mean", "p50", "p95", "p99")

Verdict = Literal["faster", "slower", "no difference", "inconclusive"]


@dataclass(frozen=True)
class ByLoad:
    """A figure load by load, as columns: in the first run, in the second, and the ends of the ratio's 95 % interval."""

    load: tuple[float, ...]
    first: tuple[float, ...]
    second: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]


@dataclass(frozen=True)
class Difference:
    """A figure of ``subject`` (:class:`facts.Fact`) over all loads that both runs had: the ratio of the second run to
    the first (95 % interval), and what may be said of it. ``detectable`` is the smallest difference that would have
    been seen in 80 % of such pairs; ``unseen`` the largest that may be there all the same. ``p`` is the chance of such
    a ratio between like runs."""

    subject: str
    figure: str
    ratio: Estimate
    verdict: Verdict
    detectable: float
    unseen: float
    p: float
    by_load: ByLoad


@dataclass(frozen=True)
class Comparison:
    """All figures, those first that changed most surely; ``verdict`` is of the response times together, and ``told``
    are the differences that stand when all are judged together."""

    verdict: Verdict
    loads: tuple[float, ...]
    differences: tuple[Difference, ...]
    told: tuple[Difference, ...]

    def of(self, subject: str, figure: str) -> Difference | None:
        return next((d for d in self.differences if (d.subject, d.figure) == (subject, figure)), None)


@dataclass(frozen=True)
class _Samples:
    """A figure's logs at several loads, as columns: their mean over blocks, the variance of that and its degrees of
    freedom; of the blocks less their mean the sums of squares and of products with the next one, over how many
    ``blocks`` of how many ``levels``. NaN is unknown."""

    mean: FloatArray
    variance: FloatArray
    freedom: FloatArray
    squares: FloatArray
    products: FloatArray
    blocks: FloatArray
    levels: FloatArray

    def only(self, places: BoolArray) -> _Samples:
        return _Samples(*(getattr(self, one.name)[places] for one in fields(self)))


class _Side:
    """The facts of a run by level and figure."""

    def __init__(self, facts: Iterable[Fact]) -> None:
        self.loads: dict[int, float] = {}
        self.figures: dict[tuple[str, str], dict[int, Fact]] = {}
        self._stolen: dict[int, tuple[float, ...]] = {}
        for fact in facts:
            if fact.level is None:
                continue
            if (fact.subject, fact.figure) == (WHOLE, "load"):
                self.loads[fact.level] = fact.value
            elif (fact.subject, fact.figure) == (WHOLE, "stolen"):
                self._stolen[fact.level] = fact.blocks
            else:
                self.figures.setdefault((fact.subject, fact.figure), {})[fact.level] = fact

    def samples(self, figure: tuple[str, str], weights: Sequence[Weights]) -> _Samples:
        """A figure at loads that these levels tell of, one or two each, by their weights."""
        wanted = sorted({level for own in weights for level, _ in own})
        by_level = self._by_level([self.figures[figure].get(level) for level in wanted])
        place = {level: number for number, level in enumerate(wanted)}
        one = np.array([place[own[0][0]] for own in weights], dtype=np.int64)
        other = np.array([place[own[-1][0]] for own in weights], dtype=np.int64)
        two = np.array([len(own) - 1.0 for own in weights])
        share = np.array([own[0][1] for own in weights])
        rest = two * (1 - share)

        def added(column: FloatArray) -> FloatArray:
            return np.asarray(column[one] + two * column[other])

        variances = [share**2 * by_level.variance[one], rest**2 * by_level.variance[other]]
        variance = variances[0] + variances[1]
        spread = variances[0] ** 2 / by_level.freedom[one] + variances[1] ** 2 / by_level.freedom[other]
        freedom = np.where(spread > 0, variance**2 / np.where(spread > 0, spread, 1.0), added(by_level.freedom))
        mean = share * by_level.mean[one] + rest * by_level.mean[other]
        sums = (added(column) for column in (by_level.squares, by_level.products, by_level.blocks, by_level.levels))
        return _Samples(mean, variance, freedom, *sums)

    def _by_level(self, facts: Sequence[Fact | None]) -> _Samples:
        """What the blocks of a figure tell at each of its levels."""
        length = max((len(fact.blocks) for fact in facts if fact is not None), default=0)
        logs = np.full((len(facts), length), np.nan)
        for row, fact in enumerate(facts):
            if fact is None:
                continue
            logs[row, : len(fact.blocks)] = fact.blocks
            stolen = self._stolen.get(fact.level or 0, ())
            if len(stolen) == len(fact.blocks):
                kept = np.array(stolen) <= STOLEN
                if kept.sum() >= LEAST_BLOCKS:
                    logs[row, : len(fact.blocks)][~kept] = np.nan
        known = np.isfinite(logs)
        blocks = known.sum(axis=1).astype(np.float64)
        told = np.where(blocks >= LEAST_BLOCKS, blocks, np.nan)
        mean = np.where(known, logs, 0.0).sum(axis=1) / told
        residuals = np.where(known, logs - mean[:, None], 0.0)
        squares = (residuals**2).sum(axis=1)
        products = (residuals[:, 1:] * residuals[:, :-1]).sum(axis=1)
        return _Samples(mean, squares / (told - 1) / told, told - 1, squares, products, blocks, np.ones_like(blocks))

    def value(self, figure: str, weights: Weights) -> float:
        """A figure of everything at some levels, by their weights."""
        facts = self.figures.get((WHOLE, figure), {})
        return sum(weight * facts[level].value for level, weight in weights if level in facts)


Weights = tuple[tuple[int, float], ...]
"""Levels by their numbers, each with its weight."""


def levels_near(loads: Mapping[int, float], load: float) -> Weights | None:
    """Which of a run's levels tell of a load, by the loads of them all; None where none does."""
    if not loads:
        return None
    best = min(loads, key=lambda level: abs(math.log(loads[level] / load)))
    if abs(loads[best] / load - 1) <= SAME_LOAD:
        return ((best, 1.0),)
    below = [level for level, n in loads.items() if n < load]
    above = [level for level, n in loads.items() if n > load]
    if not below or not above:
        return None
    low, high = max(below, key=loads.__getitem__), min(above, key=loads.__getitem__)
    if loads[high] / loads[low] > WIDEST_GAP:
        return None
    share = math.log(load / loads[low]) / math.log(loads[high] / loads[low])
    return ((low, 1 - share), (high, share))


def compare(
    first: Sequence[Fact], second: Sequence[Fact], *, matters: float = MATTERS, full_from: float | None = None
) -> Comparison:
    """Compare the ``second`` run with the ``first`` by their facts. A difference of a share under ``matters`` is none.
    Throughput is compared at loads of ``full_from`` and more alone, where both systems were full."""
    a, b = _Side(first), _Side(second)
    pairs = list(_pairs(a, b))
    found = []
    for figure in a.figures.keys() & b.figures.keys():
        at = [pair for pair in pairs if figure[1] != "throughput" or (full_from is not None and pair[0] >= full_from)]
        one = _difference(a, b, figure, at, matters)
        if one is not None:
            found.append(one)
    found.sort(key=lambda d: (d.p, d.subject, d.figure))
    told = tuple(_standing(found, matters))
    return Comparison(_whole(found, told), tuple(load for load, _, _ in pairs), tuple(found), told)


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
    sides = [[_Side(facts) for facts in runs] for runs in (firsts, seconds)]
    every = [side for runs in sides for side in runs]
    grid = min(every, key=lambda side: len(side.loads))
    near = [(load, [levels_near(side.loads, load) for side in every]) for load in sorted(set(grid.loads.values()))]
    at = [(load, weights) for load, told in near if len(weights := [w for w in told if w is not None]) == len(every)]
    found = []
    for figure in set.intersection(*(set(side.figures) for side in every)):
        loads = [one for one in at if figure[1] != "throughput" or (full_from is not None and one[0] >= full_from)]
        difference = _between_runs(every, len(firsts), figure, loads, matters)
        if difference is not None:
            found.append(difference)
    found.sort(key=lambda d: (d.p, d.subject, d.figure))
    told = tuple(_standing(found, matters))
    return Comparison(_whole(found, told), tuple(load for load, _ in at), tuple(found), told)


def _between_runs(
    every: Sequence[_Side],
    firsts: int,
    figure: tuple[str, str],
    at: Sequence[tuple[float, Sequence[Weights]]],
    matters: float,
) -> Difference | None:
    if not at:
        return None
    logs = np.array([side.samples(figure, [own[n] for _, own in at]).mean for n, side in enumerate(every)])
    known = np.isfinite(logs).all(axis=0)
    if not known.any():
        return None
    logs, loads = logs[:, known], np.array([load for load, _ in at])[known]
    mean, error, freedom = _spread(logs.mean(axis=1, keepdims=True), firsts)
    ratios, errors, _ = _spread(logs, firsts)
    reaches = _t(1 - CHANCE / 2, freedom) * errors
    columns = (
        loads,
        *map(np.exp, (logs[:firsts].mean(axis=0), logs[firsts:].mean(axis=0), ratios - reaches, ratios + reaches)),
    )
    return _told(
        figure, float(mean[0]), float(error[0]), freedom, ByLoad(*(tuple(c.tolist()) for c in columns)), matters
    )


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


@dataclass(frozen=True)
class Beside:
    """Plain figures of two runs, the first's and the second's, at the loads that both had: the share of steps that
    failed over all of them, and the throughput (per second) at the highest, ``load``."""

    load: float
    errors: tuple[float, float]
    throughput: tuple[float, float]


def beside(first: Sequence[Fact], second: Sequence[Fact]) -> Beside | None:
    """Errors and throughput at the loads that both runs had; None where they had none in common."""
    a, b = (_Side(fact for fact in facts if fact.subject == WHOLE) for facts in (first, second))
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


def _pairs(a: _Side, b: _Side) -> Iterable[tuple[float, Weights, Weights]]:
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


def _difference(
    a: _Side,
    b: _Side,
    figure: tuple[str, str],
    pairs: Sequence[tuple[float, Weights, Weights]],
    matters: float,
) -> Difference | None:
    if not pairs:
        return None
    loads = np.array([load for load, _, _ in pairs])
    one, other = a.samples(figure, [own for _, own, _ in pairs]), b.samples(figure, [own for _, _, own in pairs])
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
    return _told(figure, mean, math.sqrt(variance), freedom, by_load, matters)


def _told(
    figure: tuple[str, str], mean: float, error: float, freedom: float, by_load: ByLoad, matters: float
) -> Difference:
    """What may be said of a figure whose log ratio is known with this standard error."""
    reach = _t(1 - CHANCE / 2, freedom) * error
    found = Difference(
        *figure,
        ratio=_ratio(mean, reach),
        verdict="inconclusive",
        detectable=math.expm1(min(_MOST_LOG, (_t(1 - CHANCE / 2, freedom) + _t(POWER, freedom)) * error)),
        unseen=math.expm1(min(_MOST_LOG, abs(mean) + reach)),
        p=_two_sided(mean, error, freedom),
        by_load=by_load,
    )
    return replace(found, verdict=_verdict(found, matters))


def _alike(*samples: _Samples) -> float:
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


def _welch(one: _Samples, other: _Samples, wider: float) -> tuple[FloatArray, FloatArray, FloatArray]:
    """The log ratios of the second to the first, their variances and degrees of freedom."""
    u, v = wider * one.variance, wider * other.variance
    spread = u**2 / one.freedom + v**2 / other.freedom
    freedom = np.where(spread > 0, (u + v) ** 2 / np.where(spread > 0, spread, 1.0), one.freedom + other.freedom)
    return other.mean - one.mean, u + v, np.asarray(freedom / wider)


def _t(share: float, freedom: float) -> float:
    return float(special.stdtrit(max(freedom, 1.0), share)) if math.isfinite(freedom) else float(special.ndtri(share))


def _two_sided(mean: float, error: float, freedom: float) -> float:
    if error <= 0:
        return 1.0 if mean == 0 else 0.0
    return 2 * float(special.stdtr(max(freedom, 1.0), -abs(mean) / error))


def _ratio(mean: float, reach: float) -> Estimate:
    reach = min(reach, _MOST_LOG)
    return Estimate(math.exp(mean), math.exp(mean - reach), math.exp(mean + reach), 1 - CHANCE)


def _verdict(found: Difference, matters: float) -> Verdict:
    if found.p < CHANCE and abs(math.log(found.ratio.value)) >= math.log1p(matters):
        return _direction(found)
    return "no difference" if found.unseen <= max(LARGEST_UNSEEN, matters) else "inconclusive"


def _direction(found: Difference) -> Verdict:
    better = found.ratio.value > 1 if found.figure == "throughput" else found.ratio.value < 1
    return "faster" if better else "slower"


def _standing(found: Sequence[Difference], matters: float) -> Iterable[Difference]:
    """Those that stand when all are judged together, by their chances from the smallest on (Holm 1979)."""
    for place, one in enumerate(found):
        if one.p >= CHANCE / (len(found) - place):
            return
        if abs(math.log(one.ratio.value)) >= math.log1p(matters):
            yield one


def _whole(found: Sequence[Difference], told: Sequence[Difference]) -> Verdict:
    """Of response times, and of throughput where it was compared, together: what stands decides; slower before faster,
    for whoever asks wants to know what got worse."""
    directions = [_direction(one) for one in told if one.figure in (*TIMES, "throughput")]
    if directions:
        return "slower" if "slower" in directions else "faster"
    times = [one for one in found if one.figure == "mean"]
    if times and all(one.unseen <= LARGEST_UNSEEN for one in times):
        return "no difference"
    return "inconclusive"
