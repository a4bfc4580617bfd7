"""One run compared with another, by their facts: nothing of the runs themselves is read."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from ninja import Schema

from stonekettle.core import comparing, pooling
from stonekettle.core.comparing import Beside
from stonekettle.core.differences import Comparison, Difference
from stonekettle.core.types import Estimate
from stonekettle.plan.models import Plan
from stonekettle.plan.parts import PRACTICE
from stonekettle.report import comparing as words
from stonekettle.report import findings
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import facts
from stonekettle.server.runs.models import Run

FIGURES = ("mean", "p95", "demand", "held", "throughput", "p50", "p99")
"""In the order in which they are read."""
MOST_A_SIDE = 10
Verdict = Literal["faster", "slower", "no difference", "inconclusive"]


class Ratio(Schema):
    """The second run's figure over the first's, with its 95 % interval."""

    value: float
    low: float
    high: float


class ByLoad(Schema):
    """A figure load by load, as columns: in the first run, in the second, and the ends of the ratio's 95 % interval."""

    load: list[float]
    first: list[float]
    second: list[float]
    low: list[float]
    high: list[float]


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
    by_load: ByLoad


class ApartLine(Schema):
    weight: words.Weight
    text: str


class RunShown(Schema):
    id: int
    experiment_id: int
    experiment: str
    queued_at: str
    verdict: str
    simulated: bool
    seeded: bool


class Two(Schema):
    """The first run's figure and the second's."""

    first: float
    second: float


class BesideLine(Schema):
    """Plain figures of the two: the share of steps that failed at the loads both had, and
    what a million steps cost at the highest of them, in ``currency``; null where instances have no price."""

    load: float
    errors: Two
    cost: Two | None
    currency: str


class ComparisonAnswer(Schema):
    """``second`` compared with ``first``, at loads counted in ``unit``; others may be pooled with either."""

    first: RunShown
    second: RunShown
    others_first: list[RunShown]
    others_second: list[RunShown]
    sentence: str
    verdict: Verdict
    unit: str
    loads: list[float]
    apart: list[ApartLine]
    figures: list[FigureLine]
    beside: BesideLine | None


@dataclass(frozen=True)
class Found:
    """Two runs compared, or several with several: ``firsts`` and ``seconds``, of which the first of each speak for
    their sides."""

    comparison: Comparison
    firsts: Sequence[words.Side]
    seconds: Sequence[words.Side]
    beside: Beside | None

    @property
    def before(self) -> words.Side:
        return self.firsts[0]

    @property
    def after(self) -> words.Side:
        return self.seconds[0]

    @property
    def verdict(self) -> Verdict:
        return words.verdict(self.comparison, self.firsts, self.seconds)

    @property
    def sentence(self) -> str:
        return words.sentence(self.comparison, self.firsts, self.seconds)


def between(firsts: Sequence[Run], seconds: Sequence[Run]) -> Found:
    """Compare them. Raises :class:`Conflict` where one has no findings, or they had no load alike."""
    every = [*firsts, *seconds]
    if len({run.pk for run in every}) < len(every):
        raise Conflict("A run is compared with another one, not with itself.")
    if max(len(firsts), len(seconds)) > MOST_A_SIDE:
        raise Conflict(f"At most {MOST_A_SIDE} runs a side are compared: leave some out.")
    before, after = ([_side(run) for run in runs] for runs in (firsts, seconds))
    one, other = ([facts.of(run, levels_alone=True) for run in runs] for runs in (firsts, seconds))
    full = comparing.full_from(before[0].analysis, after[0].analysis)
    found = pooling.compare_sides(one, other, full_from=full)
    if not found.differences:
        names = " and ".join(f"run {run.pk}" for run in every)
        raise Conflict(
            f"{names[:1].upper()}{names[1:]} have no load in common, so nothing can be compared. "
            "Run both under the same load."
        )
    return Found(found, before, after, comparing.beside(one[0], other[0]) if len(every) == 2 else None)


def of(firsts: Sequence[Run], seconds: Sequence[Run]) -> ComparisonAnswer:
    """Compare them, figure by figure. Raises as :func:`between`."""
    told = between(firsts, seconds)
    found = told.comparison
    return ComparisonAnswer(
        first=_shown(firsts[0]),
        second=_shown(seconds[0]),
        others_first=[_shown(run) for run in firsts[1:]],
        others_second=[_shown(run) for run in seconds[1:]],
        sentence=told.sentence,
        verdict=told.verdict,
        unit="users" if told.after.analysis.load_kind == "users" else "arrivals/s",
        loads=list(found.loads),
        apart=[ApartLine(weight=one.weight, text=one.text) for one in words.apart(told.firsts, told.seconds)],
        figures=lines(found),
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
        errors=Two(first=found.errors[0], second=found.errors[1]),
        cost=None if first is None or second is None else Two(first=first, second=second),
        currency=told.after.plan.system.currency,
    )


def _million(side: words.Side, rate: float) -> float | None:
    """What a million steps cost at so many a second."""
    hourly = side.plan.system.cost_per_hour
    return None if hourly is None or rate <= 0 else hourly / 3600 / rate * 1e6


def described(run: Run) -> Plan:
    """The plan as it ran. Where the practice system listens is another place at each start, and nothing of it."""
    plan = run.plan
    if run.target != PRACTICE:
        return plan
    return plan.model_copy(update={"system": plan.system.model_copy(update={"base_url": f"{PRACTICE}://"})})


def _side(run: Run) -> words.Side:
    told = (run.result or {}).get("findings")
    if told is None:
        raise Conflict(f"Run {run.pk} has no findings that could be compared.")
    return words.Side(
        f"run {run.pk}", described(run), findings.claims(told), run.simulated, run.state, run.generators.count()
    )


def _shown(run: Run) -> RunShown:
    return RunShown(
        id=run.pk,
        experiment_id=run.revision.experiment_id,
        experiment=run.revision.experiment.name,
        queued_at=run.queued_at.isoformat(),
        verdict=run.verdict,
        simulated=run.simulated,
        seeded=run.seeded,
    )


def lines(found: Comparison) -> list[FigureLine]:
    """All figures of a comparison, in the order in which they are read."""
    return sorted((_line(one, found) for one in found.differences), key=_rank)


def _line(one: Difference, found: Comparison) -> FigureLine:
    at = one.by_load
    return FigureLine.model_construct(
        subject=one.subject,
        figure=one.figure,
        ratio=_ratio(one.ratio),
        verdict=one.verdict,
        detectable=min(one.detectable, 1e6),
        unseen=min(one.unseen, 1e6),
        stands=one in found.told,
        # Our own numbers, and many: not checked once more.
        by_load=ByLoad.model_construct(
            load=list(at.load),
            first=list(at.first),
            second=list(at.second),
            low=list(at.low),
            high=[min(high, 1e6) for high in at.high],
        ),
    )


def _rank(line: FigureLine) -> tuple[bool, int, float]:
    """What stands first, times before what they cost, and the largest changes before others."""
    place = FIGURES.index(line.figure) if line.figure in FIGURES else len(FIGURES)
    return not line.stands, place, -abs(math.log(line.ratio.value))


def _ratio(estimate: Estimate) -> Ratio:
    return Ratio.model_construct(value=estimate.value, low=estimate.low, high=min(estimate.high, 1e6))
