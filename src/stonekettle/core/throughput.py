"""Is as much work done as was promised, while everything else that was promised holds?

The rate of successful steps is taken at every level up to the comfort limit, and at that limit itself, between the
levels around it; the highest of them answers. Its interval is of batch means over 5-second blocks (Conway 1963).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import special

from stonekettle.core.levels import Level
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.run_data import RunData
from stonekettle.core.types import Declined, Estimate


@dataclass(frozen=True)
class ThroughputGoal:
    """A promise: at least ``least`` successful steps per second, of ``steps`` (indices into the run's steps, None for
    all). One that does not decide is told for information."""

    number: int
    least: float
    steps: tuple[int, ...] | None = None
    decides: bool = True


@dataclass(frozen=True)
class ThroughputResult:
    """The highest ``rate`` (1/s) and the load at which it was reached. Where the other objectives are broken at the
    lowest level already (``others_broken``), it is that of the lowest level, and the promise is not kept."""

    goal: ThroughputGoal
    rate: Estimate
    load: float
    others_broken: bool = False

    @property
    def kept(self) -> bool:
        return not self.others_broken and self.rate.value >= self.goal.least


def judge(
    run: RunData, levels: Sequence[Level], goals: Sequence[ThroughputGoal], comfort: ComfortLimit | Declined
) -> tuple[ThroughputResult, ...]:
    """How much was done of what each goal promises; nothing where there are no levels."""
    ordered = sorted(levels, key=lambda lv: lv.load.delivered)
    return tuple(_best(run, ordered, goal, comfort) for goal in goals) if ordered else ()


def _best(
    run: RunData, levels: Sequence[Level], goal: ThroughputGoal, comfort: ComfortLimit | Declined
) -> ThroughputResult:
    cells = run.cells_of(goal.steps)
    rates = [_rate(run, level, cells) for level in levels]
    loads = [level.load.delivered for level in levels]
    limit = comfort.load.value if isinstance(comfort, ComfortLimit) and comfort.load is not None else math.inf
    if isinstance(comfort, ComfortLimit) and comfort.status == "below":
        return ThroughputResult(goal, rates[0], loads[0], others_broken=True)
    carried = [(rate, load) for rate, load in zip(rates, loads, strict=True) if load <= limit]
    beyond = len(carried)
    if 0 < beyond < len(levels):
        share = (limit - loads[beyond - 1]) / (loads[beyond] - loads[beyond - 1])
        carried.append((_between(rates[beyond - 1], rates[beyond], share), limit))
    rate, load = max(carried or [(rates[0], loads[0])], key=lambda pair: pair[0].value)
    return ThroughputResult(goal, rate, load)


def _rate(run: RunData, level: Level, cells: Sequence[int] | None) -> Estimate:
    window = level.window(run.seconds)
    good = (run.completed - run.errors)[window.used][:, slice(None) if cells is None else cells].sum(axis=1)
    block = window.block_of_second[window.used]
    lengths = np.bincount(block, minlength=window.blocks)
    blocks = np.bincount(block, good, window.blocks) / lengths
    rate = float(good.sum()) / good.size
    if window.blocks < 2:
        return Estimate(rate, 0.0, math.inf)
    reach = float(special.stdtrit(window.blocks - 1, 0.95) * blocks.std(ddof=1) / math.sqrt(window.blocks))
    return Estimate(rate, max(0.0, rate - reach), rate + reach)


def _between(lower: Estimate, upper: Estimate, share: float) -> Estimate:
    """The rate at a ``share`` of the way from one level to the next."""
    ends = zip((lower.value, lower.low, lower.high), (upper.value, upper.low, upper.high), strict=True)
    return Estimate(*(a + share * (b - a) for a, b in ends))
