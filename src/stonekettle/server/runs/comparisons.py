"""One run compared with another, by their facts: nothing of the runs themselves is read."""

from __future__ import annotations

import math
from typing import Literal

from ninja import Schema

from stonekettle.core import comparing
from stonekettle.core.comparing import Comparison, Difference
from stonekettle.core.types import Estimate
from stonekettle.report import comparing as words
from stonekettle.report import findings
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import facts
from stonekettle.server.runs.models import Run

FIGURES = ("mean", "p95", "demand", "throughput", "p50", "p99")
"""In the order in which they are read."""
Verdict = Literal["faster", "slower", "no difference", "inconclusive"]


class Ratio(Schema):
    """The second run's figure over the first's, with its 95 % interval."""

    value: float
    low: float
    high: float


class LevelLine(Schema):
    """A figure at one load, as each run had it."""

    load: float
    first: float
    second: float
    ratio: Ratio


class FigureLine(Schema):
    """A figure of a step or of a resource over all loads that both had. ``detectable`` and ``unseen`` are shares;
    ``stands`` where it does when all figures are judged together."""

    subject: str
    figure: str
    ratio: Ratio
    verdict: Verdict
    detectable: float
    unseen: float
    stands: bool
    levels: list[LevelLine]


class ApartLine(Schema):
    weight: words.Weight
    text: str


class RunShown(Schema):
    id: int
    experiment: str
    queued_at: str
    verdict: str
    simulated: bool


class ComparisonAnswer(Schema):
    """``second`` compared with ``first``, at loads counted in ``unit``."""

    first: RunShown
    second: RunShown
    sentence: str
    verdict: Verdict
    unit: str
    loads: list[float]
    apart: list[ApartLine]
    figures: list[FigureLine]


def of(first: Run, second: Run) -> ComparisonAnswer:
    """Compare them. Raises :class:`Conflict` where one has no findings, or they had no load alike."""
    if first.pk == second.pk:
        raise Conflict("A run is compared with another one, not with itself.")
    sides = tuple(_side(run) for run in (first, second))
    before, after = (side.analysis for side in sides)
    one, other = (list(facts.of(run, levels_alone=True)) for run in (first, second))
    found = comparing.compare(one, other, full_from=comparing.full_from(before, after))
    if not found.differences:
        raise Conflict(
            f"Run {first.pk} and run {second.pk} have no load in common, so nothing can be compared. "
            "Run both under the same load."
        )
    return ComparisonAnswer(
        first=_shown(first),
        second=_shown(second),
        sentence=words.sentence(found, *sides),
        verdict=found.verdict,
        unit="users" if after.load_kind == "users" else "arrivals/s",
        loads=list(found.loads),
        apart=[ApartLine(weight=one.weight, text=one.text) for one in words.apart(*sides)],
        figures=sorted((_line(one, found) for one in found.differences), key=_rank),
    )


def _side(run: Run) -> words.Side:
    told = (run.result or {}).get("findings")
    if told is None:
        raise Conflict(f"Run {run.pk} has no findings that could be compared.")
    return words.Side(f"run {run.pk}", run.plan, findings.read(told), run.simulated, run.state, run.generators.count())


def _shown(run: Run) -> RunShown:
    return RunShown(
        id=run.pk,
        experiment=run.revision.experiment.name,
        queued_at=run.queued_at.isoformat(),
        verdict=run.verdict,
        simulated=run.simulated,
    )


def _line(one: Difference, found: Comparison) -> FigureLine:
    return FigureLine(
        subject=one.subject,
        figure=one.figure,
        ratio=_ratio(one.ratio),
        verdict=one.verdict,
        detectable=min(one.detectable, 1e6),
        unseen=min(one.unseen, 1e6),
        stands=one in found.told,
        levels=[
            LevelLine(load=at.load, first=at.first, second=at.second, ratio=_ratio(at.ratio)) for at in one.level_of
        ],
    )


def _rank(line: FigureLine) -> tuple[bool, int, float]:
    """What stands first, times before what they cost, and the largest changes before others."""
    place = FIGURES.index(line.figure) if line.figure in FIGURES else len(FIGURES)
    return not line.stands, place, -abs(math.log(line.ratio.value))


def _ratio(estimate: Estimate) -> Ratio:
    return Ratio(value=estimate.value, low=estimate.low, high=min(estimate.high, 1e6))
