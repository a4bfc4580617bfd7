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

import itertools
import math
import operator
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy import special

from stonekettle.core.analysis import Analysis
from stonekettle.core.facts import WHOLE, Fact
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Estimate

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
TIMES = ("mean", "p50", "p95", "p99")

Verdict = Literal["faster", "slower", "no difference", "inconclusive"]


@dataclass(frozen=True)
class AtLoad:
    """A figure at one load: its ratio of the second run to the first (95 % interval)."""

    load: float
    first: float
    second: float
    ratio: Estimate


@dataclass(frozen=True)
class Difference:
    """A figure of ``subject`` (:class:`facts.Fact`) over all loads that both runs had: the ratio of the second run to
    the first (95 % interval), and what may be said of it. ``detectable`` is the smallest difference that would have
    been seen in 80 % of such pairs; ``unseen`` the largest that may be there all the same. ``p`` is the chance of such
    a ratio between like runs, ``level_of`` the loads with their own ratios."""

    subject: str
    figure: str
    ratio: Estimate
    verdict: Verdict
    detectable: float
    unseen: float
    p: float
    level_of: tuple[AtLoad, ...]


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
class _Sample:
    """A figure's log at a load: its mean over blocks, the variance of that and its degrees of freedom; of the blocks
    less their mean the sums of squares and of products with the next one; and how many ``blocks`` of how many levels
    there are."""

    mean: float
    variance: float
    freedom: float
    squares: float
    products: float
    blocks: int
    levels: int = 1


class _Side:
    """The facts of a run by level and figure."""

    def __init__(self, facts: Iterable[Fact]) -> None:
        self.loads: dict[int, float] = {}
        self.figures: dict[tuple[str, str], dict[int, Fact]] = {}
        self._kept: dict[int, list[bool]] = {}
        for fact in facts:
            if fact.level is None:
                continue
            if (fact.subject, fact.figure) == (WHOLE, "load"):
                self.loads[fact.level] = fact.value
            elif (fact.subject, fact.figure) == (WHOLE, "stolen"):
                self._kept[fact.level] = [share <= STOLEN for share in fact.blocks]
            else:
                self.figures.setdefault((fact.subject, fact.figure), {})[fact.level] = fact

    def at(self, figure: tuple[str, str], level: int) -> _Sample | None:
        fact = self.figures.get(figure, {}).get(level)
        if fact is None or not fact.blocks:
            return None
        # Some ten numbers each, many thousand times: plain arithmetic is faster on them than arrays are.
        logs: Iterable[float] = fact.blocks
        kept = self._kept.get(level, ())
        if len(kept) == len(fact.blocks) and sum(kept) >= LEAST_BLOCKS:
            logs = itertools.compress(fact.blocks, kept)
        known = [log for log in logs if math.isfinite(log)]
        count = len(known)
        if count < LEAST_BLOCKS:
            return None
        mean = math.fsum(known) / count
        residuals = [log - mean for log in known]
        squares = sum(map(operator.mul, residuals, residuals))
        products = sum(map(operator.mul, residuals[1:], residuals))
        return _Sample(mean, squares / (count - 1) / count, count - 1, squares, products, count)

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


@dataclass(frozen=True)
class Beside:
    """Plain figures of two runs, the first's and the second's, at the loads that both had: the share of steps that
    failed over all of them, and the throughput (per second) at the highest, ``load``."""

    load: float
    errors: tuple[float, float]
    throughput: tuple[float, float]


def beside(first: Sequence[Fact], second: Sequence[Fact]) -> Beside | None:
    """Errors and throughput at the loads that both runs had; None where they had none in common."""
    a, b = _Side(first), _Side(second)
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
    samples = []
    for load, of_a, of_b in pairs:
        one, other = _mixed(a, figure, of_a), _mixed(b, figure, of_b)
        if one is not None and other is not None:
            samples.append((load, one, other))
    if not samples:
        return None
    wider = _alike([one for _, *both in samples for one in both])
    ratios = [(load, one, other, *_welch(one, other, wider)) for load, one, other in samples]
    count = len(ratios)
    mean = sum(d for *_, d, _, _ in ratios) / count
    variance = sum(v for *_, v, _ in ratios) / count**2
    freedom = variance**2 / sum((v / count**2) ** 2 / df for *_, v, df in ratios) if variance > 0 else math.inf
    error = math.sqrt(variance)
    p = _two_sided(mean, error, freedom)
    reach = _t(1 - CHANCE / 2, freedom) * error
    found = Difference(
        *figure,
        ratio=_ratio(mean, reach),
        verdict="inconclusive",
        detectable=math.expm1((_t(1 - CHANCE / 2, freedom) + _t(POWER, freedom)) * error),
        unseen=math.expm1(abs(mean) + reach),
        p=p,
        level_of=tuple(
            AtLoad(load, math.exp(one.mean), math.exp(other.mean), _ratio(d, _t(1 - CHANCE / 2, df) * math.sqrt(v)))
            for load, one, other, d, v, df in ratios
        ),
    )
    return replace(found, verdict=_verdict(found, matters))


def _mixed(side: _Side, figure: tuple[str, str], weights: Weights) -> _Sample | None:
    """A figure between two levels, by their weights."""
    told = [(side.at(figure, level), weight) for level, weight in weights]
    known = [(sample, weight) for sample, weight in told if sample is not None]
    if len(known) < len(told):
        return None
    if len(known) == 1:
        return known[0][0]
    mean = sum(weight * sample.mean for sample, weight in known)
    variance = sum(weight**2 * sample.variance for sample, weight in known)
    spread = sum((weight**2 * sample.variance) ** 2 / sample.freedom for sample, weight in known)
    freedom = variance**2 / spread if spread > 0 else sum(sample.freedom for sample, _ in known)
    return _Sample(
        mean,
        variance,
        freedom,
        sum(sample.squares for sample, _ in known),
        sum(sample.products for sample, _ in known),
        sum(sample.blocks for sample, _ in known),
        len(known),
    )


def _alike(samples: Sequence[_Sample]) -> float:
    """By how much blocks that are alike one after the other make the variance of a mean larger."""
    together = sum(sample.squares for sample in samples)
    if together <= 0:
        return 1.0
    blocks = sum(sample.blocks for sample in samples)
    lag = sum(sample.products for sample in samples) / together
    # Of a few blocks about their own mean less is seen than there is: (1 + 3ρ)/n less (Kendall 1954).
    n = blocks / sum(sample.levels for sample in samples)
    lag = (lag + 1 / n) / max(0.25, 1 - 3 / n)
    lag += UNSURE / math.sqrt(blocks)
    alike = min(max(lag, 0.0), MOST_ALIKE)
    return (1 + alike) / (1 - alike)


def _welch(one: _Sample, other: _Sample, wider: float) -> tuple[float, float, float]:
    """The log ratio of the second to the first, its variance and degrees of freedom."""
    u, v = wider * one.variance, wider * other.variance
    spread = u**2 / one.freedom + v**2 / other.freedom
    freedom = (u + v) ** 2 / spread if spread > 0 else one.freedom + other.freedom
    return other.mean - one.mean, u + v, freedom / wider


def _t(share: float, freedom: float) -> float:
    return float(special.stdtrit(max(freedom, 1.0), share)) if math.isfinite(freedom) else float(special.ndtri(share))


def _two_sided(mean: float, error: float, freedom: float) -> float:
    if error <= 0:
        return 1.0 if mean == 0 else 0.0
    return 2 * float(special.stdtr(max(freedom, 1.0), -abs(mean) / error))


def _ratio(mean: float, reach: float) -> Estimate:
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
