"""One run compared with another, by their facts: nothing of the runs themselves is read."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

from ninja import Schema

from stonekettle.core import comparing
from stonekettle.core.comparing import Beside, Comparison, Difference
from stonekettle.core.types import Estimate
from stonekettle.report import comparing as words
from stonekettle.report import findings
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import facts
from stonekettle.server.runs.models import Run

FIGURES = ("mean", "p95", "demand", "held", "throughput", "p50", "p99")
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
    seeded: bool


class BesideLine(Schema):
    """Plain figures of the two, the first's and the second's: the share of steps that failed at the loads both had, and
    what a million steps cost at the highest of them, in ``currency``; null where instances have no price."""

    load: float
    errors: tuple[float, float]
    cost: tuple[float, float] | None
    currency: str


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
    beside: BesideLine | None


@dataclass(frozen=True)
class Found:
    """Two runs compared."""

    comparison: Comparison
    before: words.Side
    after: words.Side
    beside: Beside | None

    @property
    def verdict(self) -> Verdict:
        return words.verdict(self.comparison, self.before, self.after)

    @property
    def sentence(self) -> str:
        return words.sentence(self.comparison, self.before, self.after)


def between(first: Run, second: Run) -> Found:
    """Compare them. Raises :class:`Conflict` where one has no findings, or they had no load alike."""
    if first.pk == second.pk:
        raise Conflict("A run is compared with another one, not with itself.")
    before, after = _side(first), _side(second)
    one, other = (list(facts.of(run, levels_alone=True)) for run in (first, second))
    found = comparing.compare(one, other, full_from=comparing.full_from(before.analysis, after.analysis))
    if not found.differences:
        raise Conflict(
            f"Run {first.pk} and run {second.pk} have no load in common, so nothing can be compared. "
            "Run both under the same load."
        )
    return Found(found, before, after, comparing.beside(one, other))


def of(first: Run, second: Run) -> ComparisonAnswer:
    """Compare them, figure by figure. Raises as :func:`between`."""
    told = between(first, second)
    found = told.comparison
    return ComparisonAnswer(
        first=_shown(first),
        second=_shown(second),
        sentence=told.sentence,
        verdict=told.verdict,
        unit="users" if told.after.analysis.load_kind == "users" else "arrivals/s",
        loads=list(found.loads),
        apart=[ApartLine(weight=one.weight, text=one.text) for one in words.apart(told.before, told.after)],
        figures=sorted((_line(one, found) for one in found.differences), key=_rank),
        beside=_beside(told),
    )


def _beside(told: Found) -> BesideLine | None:
    found = told.beside
    if found is None:
        return None
    sides = (told.before, told.after)
    costs = [_million(side, rate) for side, rate in zip(sides, found.throughput, strict=True)]
    first, second = costs
    return BesideLine(
        load=found.load,
        errors=found.errors,
        cost=None if first is None or second is None else (first, second),
        currency=told.after.plan.system.currency,
    )


def _million(side: words.Side, rate: float) -> float | None:
    """What a million steps cost at so many a second."""
    hourly = side.plan.system.cost_per_hour
    return None if hourly is None or rate <= 0 else hourly / 3600 / rate * 1e6


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
        seeded=run.seeded,
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
