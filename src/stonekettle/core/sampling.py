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
from stonekettle.core.types import BoolArray, FloatArray, IntArray

SAME_LOAD = 0.03
"""Loads that differ by no larger share are the same."""
WIDEST_GAP = 2.0
"""Between two levels whose loads differ by a larger factor nothing is interpolated."""
STOLEN = 0.03
LEAST_BLOCKS = 4
LOAD, TAKEN = (WHOLE, "load"), (WHOLE, "stolen")


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


Weights = tuple[tuple[int, float], ...]
"""Levels by their numbers, each with its weight."""


@dataclass(frozen=True)
class Grid:
    """Loads by the one or two levels that tell of each: places in ``levels``, with the ``share`` of the first one;
    ``two`` is 1.0 where there is an ``other``."""

    levels: tuple[int, ...]
    one: IntArray
    other: IntArray
    two: FloatArray
    share: FloatArray

    @classmethod
    def of(cls, weights: Sequence[Weights]) -> Grid:
        levels = sorted({level for own in weights for level, _ in own})
        place = {level: number for number, level in enumerate(levels)}
        return cls(
            tuple(levels),
            np.array([place[own[0][0]] for own in weights], dtype=np.int64),
            np.array([place[own[-1][0]] for own in weights], dtype=np.int64),
            np.array([len(own) - 1.0 for own in weights]),
            np.array([own[0][1] for own in weights]),
        )


class Side:
    """The facts of a run by level and figure."""

    def __init__(self, facts: Iterable[Fact]) -> None:
        self.loads: dict[int, float] = {}
        self.figures: dict[tuple[str, str], dict[int, Fact]] = {}
        self._kept: dict[int, BoolArray] = {}
        self._masks: dict[tuple[tuple[int | None, ...], int], BoolArray] = {}
        for fact in facts:
            level, key = fact.level, (fact.subject, fact.figure)
            if level is None:
                continue
            if key == LOAD:
                self.loads[level] = fact.value
            elif key == TAKEN:
                kept = np.array(fact.blocks) <= STOLEN
                if kept.sum() >= LEAST_BLOCKS:
                    self._kept[level] = kept
            else:
                self.figures.setdefault(key, {})[level] = fact

    def samples(self, figure: tuple[str, str], grid: Grid) -> Samples:
        """A figure at loads that these levels tell of."""
        own = self.figures[figure]
        by_level = self._by_level([own.get(level) for level in grid.levels])
        one, other, two, share = grid.one, grid.other, grid.two, grid.share
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
        rows = [fact.blocks if fact is not None else () for fact in facts]
        length = max(map(len, rows), default=0)
        logs = np.array([row + (math.nan,) * (length - len(row)) for row in rows]).reshape(len(rows), length)
        logs[self._left_out(tuple(fact.level if fact is not None else None for fact in facts), length)] = np.nan
        known = np.isfinite(logs)
        blocks = known.sum(axis=1).astype(np.float64)
        told = np.where(blocks >= LEAST_BLOCKS, blocks, np.nan)
        mean = np.where(known, logs, 0.0).sum(axis=1) / told
        residuals = np.where(known, logs - mean[:, None], 0.0)
        squares = (residuals**2).sum(axis=1)
        products = (residuals[:, 1:] * residuals[:, :-1]).sum(axis=1)
        return Samples(mean, squares / (told - 1) / told, told - 1, squares, products, blocks, np.ones_like(blocks))

    def _left_out(self, levels: tuple[int | None, ...], length: int) -> BoolArray:
        """Which blocks of these levels had processors taken away; the same for all figures of them."""
        known = self._masks.get((levels, length))
        if known is None:
            known = np.zeros((len(levels), length), dtype=np.bool_)
            for row, level in enumerate(levels):
                kept = self._kept.get(level) if level is not None else None
                if kept is not None:
                    known[row, : len(kept)] = ~kept[:length]
            self._masks[levels, length] = known
        return known

    def value(self, figure: str, weights: Weights) -> float:
        """A figure of everything at some levels, by their weights."""
        facts = self.figures.get((WHOLE, figure), {})
        return sum(weight * facts[level].value for level, weight in weights if level in facts)


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
