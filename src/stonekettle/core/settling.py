"""When has a candidate that was just brought under load become itself?

Every turn of a candidate begins cold: caches are empty, processes have just started. What is compared leaves out the
beginning of each turn, the same for all candidates: the least that makes first and second half of what is kept alike in
each of them, over all its turns together. Only a turn's first level is looked at; those after it come later still.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from stonekettle.core.facts import WHOLE, Fact
from stonekettle.core.levels import BLOCK_S
from stonekettle.core.types import FloatArray

MOST = 1 / 3
"""No larger share of a level is left out."""
LEAST_KEPT = 4
ALIKE_SE = 1.3
ALIKE = 0.01
"""Halves are alike within so many standard errors of their difference over the turns, or within this share."""
FIGURES = ("mean", "demand")

Turn = Sequence[Fact]


@dataclass(frozen=True)
class Settling:
    """What was left out at the beginning of each turn (s), and whether the rest was ``settled``: where it was not, what
    is compared still has something of the start in it."""

    left_out_s: float
    settled: bool


def settle(candidates: Sequence[Sequence[Turn]]) -> tuple[Settling, list[list[list[Fact]]]]:
    """The turns of each candidate without their beginnings, and how much that was."""
    series = [[figure_series(turn) for turn in turns] for turns in candidates]
    least = min((len(one) for turns in series for turn in turns for one in turn.values()), default=0)
    choices = range(int(least * MOST) + 1)
    fitting = (skip for skip in choices if least - skip >= LEAST_KEPT and all(_alike(own, skip) for own in series))
    skip = next(fitting, None)
    kept = skip if skip is not None else max((c for c in choices if least - c >= LEAST_KEPT), default=0)
    made = [[_without(turn, kept) for turn in turns] for turns in candidates]
    return Settling(kept * BLOCK_S, skip is not None), made


def figure_series(turn: Turn) -> dict[str, FloatArray]:
    """The logs of a turn's first level block by block: response times of its steps together, demands together."""
    first = _first_level(turn)
    found = {}
    for name in FIGURES:
        rows = [fact.blocks for fact in turn if fact.level == first and fact.figure == name and fact.subject != WHOLE]
        if rows:
            length = min(len(row) for row in rows)
            together = np.array([row[:length] for row in rows])
            known = np.isfinite(together)
            counts = known.sum(axis=0)
            found[name] = np.where(
                counts > 0, np.where(known, together, 0.0).sum(axis=0) / np.maximum(counts, 1), np.nan
            )
    return found


def _first_level(turn: Turn) -> int | None:
    return min((fact.level for fact in turn if fact.level is not None), default=None)


def _alike(turns: Sequence[dict[str, FloatArray]], skip: int) -> bool:
    """Whether, of one candidate, halves are alike once so many blocks of each turn are left out."""
    return all(_halves_alike([turn[name][skip:] for turn in turns if name in turn]) for name in FIGURES)


def _halves_alike(turns: Sequence[FloatArray]) -> bool:
    apart = np.array(list(_apart(turns)))
    if apart.size < 2:
        return True
    error = float(apart.std(ddof=1)) / math.sqrt(apart.size)
    return abs(float(apart.mean())) <= max(ALIKE_SE * error, math.log1p(ALIKE))


def _apart(turns: Iterable[FloatArray]) -> Iterable[float]:
    """By how much the first half of each turn is above its second."""
    for turn in turns:
        half = len(turn) // 2
        first, second = (part[np.isfinite(part)] for part in (turn[:half], turn[half:]))
        if first.size and second.size:
            yield float(first.mean() - second.mean())


def _without(turn: Turn, skip: int) -> list[Fact]:
    """The turn's facts, the first blocks of its first level being unknown."""
    first = _first_level(turn)
    if not skip:
        return list(turn)
    unknown = (math.nan,) * skip
    return [
        fact._replace(blocks=(*unknown, *fact.blocks[skip:])) if fact.level == first and fact.blocks else fact
        for fact in turn
    ]
