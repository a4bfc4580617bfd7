"""The facts of runs as samples: a figure's 5-second block logs by level, taken at the loads that are asked for.

Where loads differ, a figure is interpolated in the log of the load. Blocks in which the host took processors away are
left out.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, fields

import numpy as np

from stonekettle.core.facts import WHOLE, Fact
from stonekettle.core.types import BoolArray, FloatArray

SAME_LOAD = 0.03
"""Loads that differ by no larger share are the same."""
WIDEST_GAP = 2.0
"""Between two levels whose loads differ by a larger factor nothing is interpolated."""
STOLEN = 0.03
LEAST_BLOCKS = 4


@dataclass(frozen=True)
class Samples:
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

    def only(self, places: BoolArray) -> Samples:
        return Samples(*(getattr(self, one.name)[places] for one in fields(self)))


class Side:
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

    def samples(self, figure: tuple[str, str], weights: Sequence[Weights]) -> Samples:
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
        return Samples(mean, variance, freedom, *sums)

    def _by_level(self, facts: Sequence[Fact | None]) -> Samples:
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
        return Samples(mean, squares / (told - 1) / told, told - 1, squares, products, blocks, np.ones_like(blocks))

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
