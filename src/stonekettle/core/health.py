"""Can each level of a run be relied on? One small check after the other, with what was found and what is allowed.

The laws are Little's (Little 1961) and the utilisation law (Denning & Buzen 1978). For the latter each level is held
against the line through the others: the difference over its standard deviation is Student's t where all lie on one
line (externally studentised residuals, Cook & Weisberg 1982), at a level for all levels and resources of the run
together (Šidák 1967).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy import special

from stonekettle.core.analysis import Analysis
from stonekettle.core.blur import BLUR_TOLD, SHIFT_TOLD
from stonekettle.core.bottleneck import SHORT
from stonekettle.core.laws import FAILING, FALSE_ALARMS, FULL, LITTLE_FLAG, Demand, LittleCheck
from stonekettle.core.levels import Level
from stonekettle.core.types import FloatArray

CheckKind = Literal["ordered", "late", "little", "work", "pauses", "blur", "tail", "gaps", "meters"]
Standing = Literal["holds", "strained", "broken", "unknown"]

MUCH_SHORT = 0.05
MUCH_BLUR = 0.2
GAPS_TOLD, MANY_GAPS = 0.05, 0.5
TAIL, FEW = 20.0, 5.0
"""So many answers beyond a 95th percentile tell it, and with so few it is hardly known."""
WORK_TOLD, MUCH_WORK = 0.05, 0.2
"""Shares by which a step's work must differ to be worth telling, and to doubt the level."""
LEAST_OTHERS = 3
LEAST_BUSY = 0.02
"""Busy servers below which a share of them means nothing."""


@dataclass(frozen=True)
class Check:
    """One check of one level: the ``figure`` found and the ``bound`` it had to keep; ``key`` is the resource it is
    about, where it is about one.

    Figures and bounds are shares 0..1 but for ``pauses`` (s), ``tail`` (answers beyond the 95th percentile, at least)
    and ``meters`` (resources without a reading). NaN stands with what is unknown.
    """

    kind: CheckKind
    level: int
    standing: Standing
    figure: float
    bound: float
    key: str = ""


def of_levels(analysis: Analysis) -> tuple[Check, ...]:
    """Every check of every level, level by level."""
    work = _work(analysis)
    little = {check.level: check for check in analysis.little}
    metered = sorted({key for level in analysis.levels for key in level.utilisation})
    return tuple(
        check
        for level in analysis.levels
        for check in _checks(level, little.get(level.number), work[level.number], metered)
    )


def _checks(level: Level, little: LittleCheck | None, work: Check, metered: Sequence[str]) -> Iterator[Check]:
    number = level.number
    ordered = level.load.ordered
    off = (level.load.delivered - ordered) / ordered if ordered > 0 else math.nan
    yield Check("ordered", number, _graded(abs(off), SHORT, MUCH_SHORT), off, SHORT)
    yield Check("late", number, _graded(level.shift, SHIFT_TOLD, MUCH_SHORT), level.shift, SHIFT_TOLD)
    if little is not None:
        bound = max(LITTLE_FLAG, little.allowed * little.deviation)
        standing: Standing = "broken" if little.gross else "strained" if little.broken else "holds"
        yield Check("little", number, standing, little.gap, bound)
        yield Check("pauses", number, "strained" if little.pause_s > 0 else "holds", little.pause_s, 0.0)
    yield work
    blur = 1 - level.p95_low_s / level.p95_s if level.p95_s > 0 else math.nan
    yield Check("blur", number, _graded(blur, BLUR_TOLD, MUCH_BLUR), blur, BLUR_TOLD)
    beyond = 0.05 * (level.completions - level.errors)
    yield Check("tail", number, _graded(-beyond, -TAIL, -FEW), beyond, TAIL)
    seconds = level.seconds_used + level.seconds_left_out
    gaps = level.seconds_left_out / seconds if seconds else math.nan
    yield Check("gaps", number, _graded(gaps, GAPS_TOLD, MANY_GAPS), gaps, GAPS_TOLD)
    unread = [key for key in metered if not math.isfinite(level.utilisation.get(key, math.nan))]
    if metered:
        missing: Standing = "holds" if not unread else "broken" if len(unread) == len(metered) else "strained"
        yield Check("meters", number, missing, float(len(unread)), 0.0, unread[0] if unread else "")


def _graded(figure: float, told: float, much: float) -> Standing:
    if math.isnan(figure):
        return "unknown"
    return "holds" if figure <= told else "strained" if figure <= much else "broken"


def _work(analysis: Analysis) -> dict[int, Check]:
    """By level the resource at which a step's work differs most, by chance or not."""
    found = [
        (level, off) for demand in analysis.hardware_demands for level, off in _departures(demand, analysis.levels)
    ]
    allowed = 1 - (1 - FALSE_ALARMS) ** (1 / max(1, len(found)))
    checks = {level.number: Check("work", level.number, "unknown", math.nan, math.nan) for level in analysis.levels}
    likely: dict[int, float] = {}
    for number, off in found:
        chance = float(2 * special.stdtr(off.freedom, -abs(off.t)))
        if chance >= likely.get(number, math.inf):
            continue
        likely[number] = chance
        bound = max(WORK_TOLD, float(special.stdtrit(off.freedom, 1 - allowed / 2)) * abs(off.share / off.t))
        sure = abs(off.share) > bound
        standing: Standing = "holds" if not sure else "strained" if abs(off.share) <= MUCH_WORK else "broken"
        checks[number] = Check("work", number, standing, off.share, bound, off.key)
    return checks


@dataclass(frozen=True)
class _Departure:
    """How far a level lies off the line through the others: as a ``share`` of it, and over its deviation ``t``."""

    key: str
    share: float
    t: float
    freedom: int


def _departures(demand: Demand, levels: Sequence[Level]) -> Iterator[tuple[int, _Departure]]:
    told = [
        level
        for level in levels
        if level.utilisation.get(demand.key, math.nan) < FULL
        and level.error_ratio <= FAILING
        and level.completion_rate > 0
    ]
    if len(told) <= LEAST_OTHERS:
        return
    x = np.array([level.completion_rate for level in told])
    servers = [level.capacity.get(demand.key, math.nan) for level in told]
    busy = np.array(
        [
            level.utilisation[demand.key] * (here if here > 0 else demand.servers)
            for level, here in zip(told, servers, strict=True)
        ]
    )
    weight = np.array([level.seconds_used for level in told]) / x
    columns = np.stack([np.ones_like(x), x]) if demand.background > 0 else x[None, :]
    for at, level in enumerate(told):
        others = np.arange(len(told)) != at
        freedom = int(others.sum()) - len(columns)
        expected, deviation = _foretold(columns[:, others], busy[others], weight[others], columns[:, at], weight[at])
        if freedom < 1 or expected < LEAST_BUSY or not deviation > 0:
            continue
        off = float(busy[at]) - expected
        # Readings are rounded: a line that others lie on exactly is not that exact.
        deviation = max(deviation, 1e-4 * expected)
        yield level.number, _Departure(demand.key, off / expected, off / deviation, freedom)


def _foretold(
    columns: FloatArray, values: FloatArray, weight: FloatArray, at: FloatArray, weight_at: float
) -> tuple[float, float]:
    """What weighted least squares of ``values`` expects at another place, and the deviation of a value there."""
    normal = np.linalg.pinv((columns * weight) @ columns.T)
    fitted = normal @ (columns * weight) @ values
    freedom = max(1, values.size - len(columns))
    spread = float((weight * (values - fitted @ columns) ** 2).sum()) / freedom
    return float(fitted @ at), math.sqrt(spread * (1 / weight_at + float(at @ normal @ at)))
