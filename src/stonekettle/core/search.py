"""Which load should be held next, to know soon up to which one the objectives hold?

Two light levels show what a step takes and costs. From these the exact curve of the closed network (:mod:`limit`) and
the light histogram tell where a goal will be crossed. The next level is at three quarters of that, never over three
times the highest so far; those after it lie around the crossing, on the side that has had less time. The answer is the
comfort limit (:mod:`objectives`) of all levels, as for any run; the search is over once its interval is as narrow as
wanted, once another level would not narrow it, or when its time is up.

Where the level on the way there is far from what was foretold, where no curve is known, and where errors decide, the
crossing is enclosed instead: upwards by the trend of the last levels, then by halving in the log of load. Levels that
only enclose are cut short as soon as a sequential test (Wald 1945) of the share of steps slower than the goal decides:
between two thirds of the promised share and half as much again, its log likelihood ratio shrunk by the dispersion of
5-second blocks.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

import numpy as np

from stonekettle.core import foretelling, objectives, saturation
from stonekettle.core.histogram import bucket_of, percentiles_s
from stonekettle.core.levels import Level, measure
from stonekettle.core.objectives import ComfortLimit, Objective
from stonekettle.core.orders import Order, Ordered, with_order
from stonekettle.core.run_data import RunData
from stonekettle.core.types import Declined, Estimate, FloatArray, Reason

MEASURED_S = 30.0
"""So long a level counts, after its warm-up."""
LEAST_LIGHT = 120
"""Steps that make a light level."""
LIGHT_USE = 0.35
PEEK_S = 12.0
"""After so long a level tells whether it is worth its time."""
SHORT_OF, NEAR_ENOUGH = 0.75, 0.55
"""The way to a crossing leads over a level at such a share of it, unless one is near enough already."""
MOST_RISE, LEAST_RISE = 3.0, 1.2
OFF = 0.25
"""A level that takes so much more than was foretold, and two standard errors, refutes it."""
LEAST_APART, MOST_APART, APART = 0.03, 0.10, 0.2
"""Levels lie so far from the crossing, in the log of load: as far as a response differs by so much."""
ENCLOSED, CLOSE = 0.4, 0.18
"""Neighbours of the crossing that are closer in the log of load enclose it; closer still, others go around it."""
OVER_S, UNDER_S, DECIDED = 10.0, 20.0, 2.94
FASTER, SLOWER = 2 / 3, 1.5
SURE_ERRORS = 1.645
SPREAD, SPREAD_BLOCKS = 4.0, 4
"""Dispersion of blocks that is taken for granted, as if so many had shown it."""
GAIN = 0.9
"""Another level is worth its time while the last one made the interval narrower by so much."""
LEAST_LEFT_S = 25.0


class Stage(StrEnum):
    """What a level is for. Stable: programs and stored orders go by it."""

    LIGHT = "light"
    APPROACH = "approach"
    AROUND = "around"
    ENCLOSE = "enclose"


class End(StrEnum):
    """Why a search is over."""

    PRECISE = "precise"
    NO_GAIN = "no gain"
    TIME = "time"
    MOST = "most"
    LOWEST = "lowest"
    BLURRED = "blurred"


@dataclass(frozen=True)
class Bounds:
    """Loads to search between (users), for at most ``within_s`` seconds, until the answer is known within
    ``precision`` of itself to both sides."""

    lowest: float
    most: float
    within_s: float
    precision: float = 0.07


@dataclass(frozen=True)
class Stay:
    """The level in force goes on."""


@dataclass(frozen=True)
class Go:
    """To the next level. ``foretold`` is the crossing it goes by, None where none is known."""

    load: float
    stage: Stage
    foretold: float | None = None


@dataclass(frozen=True)
class Over:
    """The search is over: why, what the levels say (None: not crossed), and what the light levels had foretold."""

    end: End
    found: Estimate | None
    foretold: float | None
    levels: int


class Search:
    """Leads a load of users. It remembers what its levels are for; all else it reads from the run."""

    def __init__(self, bounds: Bounds, goals: Sequence[Objective]) -> None:
        self.bounds, self._goals = bounds, tuple(goals)
        self._stage, self._load = Stage.LIGHT, bounds.lowest
        self._levels = 0
        self._foretold: float | None = None
        self._refuted = False
        self._widths: list[float] = []

    @property
    def least_s(self) -> float:
        """So long a level lasts before there is anything to decide (s)."""
        return MEASURED_S if self._stage in (Stage.APPROACH, Stage.AROUND) else OVER_S

    def first(self) -> Go:
        return self._go(self.bounds.lowest, Stage.LIGHT)

    def look(self, run: RunData, ordered: Ordered) -> Stay | Go | Over:
        """What to do after ``run.seconds`` of the run, by what it measured under ``ordered``, whose last order is in
        force."""
        now, begun = float(run.seconds), ordered.orders[-1].at_s
        levels = measure(run, _until(ordered, now).levels())
        current = next((lv for lv in levels if lv.end_s >= now - 1e-6 and lv.start_s >= begun - 1e-6), None)
        out_of_time = now >= self.bounds.within_s
        if not out_of_time and not self._is_enough(run, current, now - begun):
            return Stay()
        answer = _Answer(run, levels, self._goals)
        if current is None and not out_of_time:
            return self._brighter(run, begun)
        sure = current is None or current.seconds_used >= MEASURED_S or self._is_decided(run, current)
        if not (answer.holds or sure or out_of_time):
            return Stay()  # a few seconds say too little for the way down
        if self._stage in (Stage.APPROACH, Stage.AROUND) and current is not None and answer.is_off(current):
            self._refuted = True
        return self._next(answer, now, out_of_time)

    def _is_enough(self, run: RunData, current: Level | None, passed_s: float) -> bool:
        if current is None:
            return passed_s >= PEEK_S
        if self._stage is Stage.LIGHT:
            return current.completions >= LEAST_LIGHT or current.seconds_used >= MEASURED_S
        if current.seconds_used >= MEASURED_S:
            return True
        return self._stage is Stage.ENCLOSE and self._is_decided(run, current)

    def _is_decided(self, run: RunData, level: Level) -> bool:
        return any(_is_decided(run, level, goal) for goal in self._goals)

    def _brighter(self, run: RunData, begun: float) -> Stay | Go | Over:
        """From a level in which next to nothing happens on to one with enough steps."""
        seen = run.completed[math.ceil(begun) :]
        rate = float(seen.sum()) / max(1, len(seen))
        if rate * MEASURED_S >= LEAST_LIGHT and len(seen) < 2 * MEASURED_S:
            return Stay()
        if self._load >= self.bounds.most:
            return Over(End.MOST, None, self._foretold, self._levels)
        factor = float(np.clip(1.2 * LEAST_LIGHT / max(rate * MEASURED_S, 1.0), 1.5, MOST_RISE))
        return self._go(self._load * factor, Stage.LIGHT)

    def _next(self, answer: _Answer, now: float, out_of_time: bool) -> Go | Over:
        found = answer.found
        if answer.blurred:
            return self._over(End.BLURRED, None)
        if found is not None and answer.gap <= ENCLOSED:
            self._widths.append((found.high - found.low) / 2 / found.value)
            if self._widths[-1] <= self.bounds.precision:
                return self._over(End.PRECISE, found)
            if answer.gap <= CLOSE and len(self._widths) > 2 and self._widths[-1] > GAIN * self._widths[-3]:
                return self._over(End.NO_GAIN, found)
        if out_of_time or now + LEAST_LEFT_S + 2 * answer.cycle_s > self.bounds.within_s:
            return self._over(End.TIME, found)
        if answer.holds and not answer.misses and len(answer.levels) < foretelling.LIGHT_LEVELS:
            return self._go(self._load * answer.light_step, Stage.LIGHT)
        if not answer.holds:
            return self._down(answer, found)
        return self._around(answer) if answer.misses else self._up(answer)

    def _down(self, answer: _Answer, found: Estimate | None) -> Go | Over:
        lowest = min(answer.misses)
        if lowest <= self.bounds.lowest:
            return self._over(End.LOWEST, found)
        return self._go(max(self.bounds.lowest, lowest / 2), Stage.ENCLOSE)

    def _up(self, answer: _Answer) -> Go | Over:
        highest = max(answer.holds)
        if highest >= self.bounds.most * (1 - LEAST_APART):
            return self._over(End.MOST, None)
        foretold = None if self._refuted else answer.foretold(self.bounds.most)
        if foretold is None:
            return self._go(highest * answer.rise, Stage.ENCLOSE)
        if self._foretold is None:
            self._foretold = foretold
        if highest < NEAR_ENOUGH * foretold:
            return self._go(min(SHORT_OF * foretold, MOST_RISE * highest), Stage.APPROACH, foretold)
        apart = math.exp(answer.apart(foretold))
        return self._go(max(foretold, highest) * apart, Stage.AROUND, foretold)

    def _around(self, answer: _Answer) -> Go:
        """Levels on both sides of the crossing, the nearer the better it is known."""
        low, high = max(answer.holds), min(answer.misses)
        value = answer.found.value if answer.found is not None else math.sqrt(low * high)
        if answer.gap > CLOSE:
            # Not too near to either end, where it would tell next to nothing.
            quarter = (high / low) ** 0.25
            place = math.sqrt(low * high) if self._refuted else value
            place = float(np.clip(place, low * quarter, high / quarter))
            return self._go(place, Stage.ENCLOSE if self._refuted else Stage.AROUND, value)
        apart = answer.apart(value)
        below, above = answer.time_around(value)
        return self._go(value * math.exp(apart if above <= below else -apart), Stage.AROUND, value)

    def _go(self, load: float, stage: Stage, foretold: float | None = None) -> Go:
        users = float(np.clip(round(load), self.bounds.lowest, self.bounds.most))
        if users == self._load and self._levels:
            users += 1 if load >= users and users < self.bounds.most else -1
        self._stage, self._load = stage, users
        self._levels += 1
        return Go(users, stage, foretold)

    def _over(self, end: End, found: Estimate | None) -> Over:
        return Over(end, found, self._foretold, self._levels)


def _until(ordered: Ordered, now: float) -> Ordered:
    """The record as if it ended now."""
    return with_order(ordered, Order(ordered.orders[-1].number + 1, now, {}, last=True))


class _Answer:
    """What the levels so far say, in order of load."""

    def __init__(self, run: RunData, levels: Sequence[Level], goals: Sequence[Objective]) -> None:
        self._run, self._goals = run, goals
        self.levels = sorted(levels, key=lambda lv: lv.load.delivered)
        pools = {resource.key for resource in run.resources if resource.is_pool}
        self.hardware = [
            demand
            for resource in run.resources
            if resource.kind != "memory"
            and resource.key not in pools
            and (demand := foretelling.demand(resource, self.levels)) is not None
            and demand.ceiling is not None
        ]
        curve = saturation.response_curve(self.levels, self.hardware)
        comfort = objectives.comfort_limit(run, self.levels, goals, response=curve)
        self.blurred = isinstance(comfort, Declined) and comfort.reason is Reason.BLURRED
        self._results = comfort.results if isinstance(comfort, ComfortLimit) else ()
        self.found = comfort.load if isinstance(comfort, ComfortLimit) and comfort.status == "found" else None
        loads = [lv.load.delivered for lv in self.levels]
        # The lowest level that misses a goal, monotone in load, and all above it.
        crossed = [r.load.value if r.load else math.inf for r in self._results]
        edge = min(crossed, default=math.inf)
        below = any(r.broken_everywhere for r in self._results)
        self.holds = [] if below else [n for n in loads if n <= edge]
        self.misses = loads if below else [n for n in loads if n > edge]

    @property
    def gap(self) -> float:
        """How far the levels next to the crossing are from each other, in the log of load."""
        return math.log(min(self.misses) / max(self.holds)) if self.holds and self.misses else math.inf

    @property
    def cycle_s(self) -> float:
        """How long a journey took at the level at which it took longest (s)."""
        cycles = ((lv.in_flight + lv.thinking) / lv.completion_rate * lv.steps_in_turn for lv in self.levels)
        return max(cycles, default=0.0)

    @property
    def light_step(self) -> float:
        """How many times the load of the highest level is still light."""
        used = [u for d in self.hardware if math.isfinite(u := self.levels[-1].utilisation.get(d.key, math.nan))]
        return float(np.clip(LIGHT_USE / max(max(used, default=LIGHT_USE / 2), 0.01), 1.5, MOST_RISE))

    @property
    def rise(self) -> float:
        """How many times the highest load the next one may be, by the trend of the last two levels."""
        rises = [self._rise(result) for result in self._results]
        return min(rises, default=2.0)

    def _rise(self, result: objectives.ObjectiveResult) -> float:
        loads, values, goal = np.array(result.level_loads), np.array(result.values), result.objective.limit
        if result.objective.kind == "apdex":
            values, goal = 1 - values, 1 - goal
        known = np.isfinite(values) & (values > 0)
        if known.sum() < 2:
            return 2.0
        (n0, n1), (v0, v1) = loads[known][-2:], values[known][-2:]
        slope = math.log(v1 / v0) / max(math.log(n1 / n0), 1e-3)
        left = math.log(goal / v1)
        # Responses rise the faster the more load there is.
        return float(np.clip(math.exp(left / max(slope, 0.3) * 0.7), LEAST_RISE, 2.0))

    def foretold(self, most: float) -> float | None:
        """Where the first goal on response times will be crossed, at most at ``most``; None where no curve tells it."""
        told = [model.crossing(goal.limit, most) for goal, model in self._models]
        return min(told, default=None)

    def is_off(self, level: Level) -> bool:
        """Whether a level takes longer than the others foretell for it, by more than chance."""
        others = [lv for lv in self.levels if lv is not level]
        if len(others) < foretelling.LIGHT_LEVELS:
            return False
        for result, (goal, model) in zip(self._timed(), self._models_of(others), strict=False):
            place = int(np.argmin(np.abs(np.array(result.level_loads) - level.load.delivered)))
            value = result.values[place]
            if not math.isfinite(value) or value <= 0:
                continue
            told = model.percentile_s(level.load.delivered)
            # What takes less than foretold only puts the crossing further up.
            if math.log(value / told) > math.log(1 + OFF) + 2 * _log_error(self._run, level, goal):
                return True
        return False

    def _timed(self) -> list[objectives.ObjectiveResult]:
        return [r for r in self._results if r.objective.kind == "response"]

    @cached_property
    def _models(self) -> list[tuple[Objective, foretelling.Foretold]]:
        return self._models_of(self.levels)

    def _models_of(self, levels: Sequence[Level]) -> list[tuple[Objective, foretelling.Foretold]]:
        """For each goal on response times what these levels foretell of it; nothing where no curve is known."""
        goals = [goal for goal in self._goals if goal.kind == "response"]
        best = foretelling.best(levels, self.hardware)
        if best is None:
            return []
        return [(goal, foretelling.Foretold(self._run, levels, goal, self.hardware, best)) for goal in goals]

    def apart(self, value: float) -> float:
        """How far from the crossing a level tells most, in the log of load."""
        slopes = [model.slope(value) for _, model in self._models]
        return float(np.clip(APART / max(max(slopes, default=4.0), 0.1), LEAST_APART, MOST_APART))

    def time_around(self, value: float) -> tuple[float, float]:
        """Seconds measured near below a load, and near above it."""
        near = [lv for lv in self.levels if abs(math.log(lv.load.delivered / value)) <= 2 * MOST_APART]
        below = sum(lv.seconds_used for lv in near if lv.load.delivered <= value)
        return float(below), float(sum(lv.seconds_used for lv in near)) - below


def _log_error(run: RunData, level: Level, goal: Objective) -> float:
    """Of the log of a level's percentile, by its blocks: a jackknife (Quenouille 1956)."""
    window = level.window(run.seconds)
    blocks = run.histograms.blocks(window.block_of_second, window.blocks, run.cells_of(goal.steps))
    if window.blocks < 3 or not blocks.sum():
        return 0.3
    without = np.log(np.maximum(percentiles_s(blocks.sum(axis=0) - blocks, goal.percent), 1e-6))
    return float(math.sqrt((window.blocks - 1) / window.blocks * ((without - without.mean()) ** 2).sum()))


def _is_decided(run: RunData, level: Level, goal: Objective) -> bool:
    """Whether a level is on one side of a goal on percentiles or errors for sure (Wald 1945)."""
    if level.seconds_used < OVER_S or goal.kind not in ("response", "errors"):
        return False
    over, n, promised = _late(run, level, goal)
    if n.sum() < objectives.MIN_STEP_COMPLETIONS:
        return False
    p0, p1 = promised * FASTER, min(promised * SLOWER, 0.9)
    ratio = over.sum() * math.log(p1 / p0) + (n.sum() - over.sum()) * math.log((1 - p1) / (1 - p0))
    share = float(np.clip(over.sum() / n.sum(), 0.5 / n.sum(), 1 - 0.5 / n.sum()))
    spread = float(((over - n * share) ** 2).sum() / (n * share * (1 - share)).sum()) * len(n) / max(1, len(n) - 1)
    ratio /= max(1.0, (SPREAD * SPREAD_BLOCKS + spread * len(n)) / (SPREAD_BLOCKS + len(n)))
    if ratio > DECIDED:
        return True
    # Not where a few slow ones more would turn it.
    return ratio < -DECIDED and level.seconds_used >= UNDER_S and share < promised / 3


def _late(run: RunData, level: Level, goal: Objective) -> tuple[FloatArray, FloatArray, float]:
    """In each block of a level the steps that break a goal, all that count, and the share that may."""
    window, cells = level.window(run.seconds), run.cells_of(goal.steps)
    if goal.kind == "errors":
        chosen = slice(None) if cells is None else cells
        block = window.block_of_second[window.used]
        over, n = (
            np.bincount(block, counts[window.used][:, chosen].sum(axis=1), window.blocks)
            for counts in (run.errors, run.completed)
        )
        return over.astype(np.float64), n.astype(np.float64), goal.limit
    blocks = run.histograms.blocks(window.block_of_second, window.blocks, cells)
    edge = int(bucket_of(np.array([round(goal.limit * 1e6)]))[0])
    return blocks[:, edge + 1 :].sum(axis=1), blocks.sum(axis=1), 1 - goal.percent / 100
