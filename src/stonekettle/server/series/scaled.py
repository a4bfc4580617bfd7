"""What a series tells in which something is scaled: a point for each value, and what others would bring."""

from __future__ import annotations

import math
import statistics
from collections.abc import Iterable, Sequence

from ninja import Schema

from stonekettle.core import scaling as core
from stonekettle.core.objectives import Z_90
from stonekettle.core.scaling import Cap, Law, Limit
from stonekettle.core.types import Declined, Estimate
from stonekettle.plan.models import Plan
from stonekettle.plan.scaling import ScaledValue, Scaling, Varied
from stonekettle.report import scaling as words
from stonekettle.report.notes.note import declined
from stonekettle.report.scaling import LAWS, Told, Tried
from stonekettle.server.problems import Conflict
from stonekettle.server.series import counted
from stonekettle.server.series.models import Series, Turn


class Bracket(Schema):
    """A figure with its 90 % interval."""

    value: float
    low: float
    high: float


class ScaledPoint(Schema):
    """A value that was tried, in ``runs`` that count: its limit (steps/s), or ``at_least`` so much where none reached
    it. ``efficiency`` is what each brings, as a share of what the least does; ``comfort`` is the comfort limit, where
    objectives held throughout ``comfort_over`` so much; ``limited_by`` what gave out. Costs are
    by the prices of instances then; 1,000 steps at the limit."""

    words: str
    amount: float | None
    runs: list[int]
    limit: Bracket | None
    at_least: float | None
    efficiency: Bracket | None
    comfort: Bracket | None
    comfort_over: float | None
    limited_by: list[str]
    ready_after_s: float | None
    cost_per_hour: float | None
    thousand_steps: Bracket | None


class OtherValue(Schema):
    """A value that was not tried: what it would bring (5, 50 and 95 %), what gives out there and how ``sure`` that is.
    ``wide`` where the data leave too much room to tell it."""

    words: str
    amount: float
    limit: Bracket
    gives_out: str
    sure: float
    wide: bool
    cost_per_hour: float | None
    thousand_steps: Bracket | None


class LawLine(Schema):
    law: Law
    words: str
    share: float


class CapLine(Schema):
    """Another component's resource is full at so many steps/s."""

    words: str
    rate: Bracket


class ScalingFindings(Schema):
    """``band`` is told along the whole axis, up to ``told_to``; ``why_not`` says why nothing is told of other values,
    "" where it is. From ``faded_from`` on one more brings under half of what the first ones brought each. The value
    ``cheapest`` costs least per 1,000 steps, of those tried and told. ``missing`` are turns that do not count."""

    sentence: str
    of: Varied
    component: str
    axis: str
    load_unit: str
    currency: str
    points: list[ScaledPoint]
    laws: list[LawLine]
    others: list[OtherValue]
    band: list[OtherValue]
    caps: list[CapLine]
    faded_from: float | None
    cheapest: str
    told_to: float
    why_not: str
    limits: list[str]
    missing: list[str]


AXES: dict[Varied, str] = {
    "instances": "instances",
    "size": "processors of an instance",
    "setting": "value",
    "data": "size",
}


def of(series: Series) -> ScalingFindings:
    """What the turns that are over tell so far. Raises :class:`Conflict` where nothing is scaled."""
    plan = series.plan
    scaling = plan.scaling
    if scaling is None:
        raise Conflict(f"In series {series.pk} candidates take turns, and nothing is scaled.")
    turns = list(series.turns.filter(over=True).select_related("run__revision__experiment"))
    tried, runs, missing = _tried(scaling, turns)
    told = words.of(plan, tried)
    points = [_point(plan, value, told, tried, runs, turns) for value in scaling.values]
    others = [_other(plan, one) for one in told.lines]
    return ScalingFindings(
        sentence=words.sentence(plan, told, tried, going=series.state == Series.State.GOING),
        of=scaling.of,
        component=scaling.component or "",
        axis=AXES[scaling.of],
        load_unit="users" if not tried or tried[0].analysis.load_kind == "users" else "arrivals/s",
        currency=plan.system.currency,
        points=points,
        laws=[LawLine(law=law, words=LAWS[law], share=share) for law, share in told.laws.items()],
        others=others,
        band=[_other(plan, one) for one in told.band],
        caps=[CapLine(words=words.limit_words(scaling, cap.key), rate=_cap(cap)) for cap in told.caps],
        faded_from=told.faded_from,
        cheapest=_cheapest(points, others),
        told_to=told.told_to,
        why_not=told.why_not,
        limits=words.limits(told),
        missing=missing,
    )


def _tried(scaling: Scaling, turns: Sequence[Turn]) -> tuple[list[Tried], list[tuple[str, int]], list[str]]:
    """The runs that count, with the words of their values; and why others do not."""
    tried, runs, missing = [], [], []
    for turn in turns:
        found = counted.counting(turn, trusted=False)
        if isinstance(found, str):
            missing.append(f"{turn.words}, round {turn.block}: {found}.")
            continue
        run, analysis = found
        if isinstance(limit := core.limit_of(analysis, scaling.component or ""), Declined):
            why = declined("limit", "Limit", limit).text
            missing.append(f"{turn.words}, round {turn.block}: run {run.pk} tells no limit. {why}")
            continue
        tried.append(Tried(scaling.value(turn.candidate), analysis))
        runs.append((turn.candidate, run.pk))
    return tried, runs, missing


def _point(
    plan: Plan,
    value: ScaledValue,
    told: Told,
    tried: Sequence[Tried],
    runs: Sequence[tuple[str, int]],
    turns: Sequence[Turn],
) -> ScaledPoint:
    scaling = plan.scaling
    assert scaling is not None  # by of
    name = scaling.words(value)
    place = next((k for k, point in enumerate(told.points) if point.n == value.much), None)
    point = told.points[place] if place is not None else None
    limit = point.capacity if point is not None and not point.at_least else _limit_of_words(scaling, value, tried)
    cost = _cost_per_hour(plan, value)
    return ScaledPoint(
        words=words.words(scaling, value.much) if scaling.of == "instances" and value.much else name,
        amount=value.much,
        runs=[pk for own, pk in runs if own == name],
        limit=_bracket(limit),
        at_least=point.capacity.value if point is not None and point.at_least else None,
        efficiency=_bracket(told.efficiency[place]) if place is not None else None,
        comfort=_bracket(point.comfort) if point is not None else None,
        comfort_over=point.held if point is not None and point.comfort is None else None,
        limited_by=sorted({words.limited_by(one.analysis) for one in tried if one.value == value} - {""}),
        ready_after_s=_median(turn.ready_after_s for turn in turns if turn.candidate == name),
        cost_per_hour=cost,
        thousand_steps=_thousand(cost, limit),
    )


def _limit_of_words(scaling: Scaling, value: ScaledValue, tried: Sequence[Tried]) -> Estimate | None:
    """The limit of a value that is no number, which has no place on an axis."""
    if value.much is not None:
        return None
    own = [core.limit_of(one.analysis, scaling.component or "") for one in tried if one.value == value]
    points = core.points_of([(1.0, limit) for limit in own if isinstance(limit, Limit)])
    return points[0].capacity if points and not points[0].at_least else None


def _other(plan: Plan, one: core.Foretold) -> OtherValue:
    scaling = plan.scaling
    assert scaling is not None  # by of
    cost = _cost_with(plan, one.n)
    return OtherValue(
        words=words.words(scaling, one.n),
        amount=one.n,
        limit=Bracket(value=one.capacity.value, low=one.capacity.low, high=one.capacity.high),
        gives_out=words.limit_words(scaling, one.limit),
        sure=one.sure,
        wide=one.wide,
        cost_per_hour=cost,
        thousand_steps=_thousand(cost, one.capacity),
    )


def _cost_per_hour(plan: Plan, value: ScaledValue) -> float | None:
    """What the whole system costs with a value."""
    scaling, turns = plan.scaling, plan.turns
    assert scaling is not None  # by of
    assert turns is not None  # there are some where something is scaled
    name = scaling.words(value)
    return plan.turn(next(one for one in turns.each if one.name == name), None).system.cost_per_hour


def _cost_with(plan: Plan, amount: float) -> float | None:
    """What the whole system costs with so many instances; of a size that was not tried no price is known."""
    scaling, whole = plan.scaling, plan.system.cost_per_hour
    assert scaling is not None  # by of
    own = next((one for one in plan.system.components if one.name == scaling.component), None)
    if scaling.of != "instances" or whole is None or own is None or own.instance_type is None:
        return None
    price = own.instance_type.price_per_hour
    return whole + (amount - own.instances) * price if price is not None else None


def _thousand(cost: float | None, limit: Estimate | None) -> Bracket | None:
    """What 1,000 steps cost at the limit."""
    if cost is None or limit is None or not limit.low > 0:
        return None
    each = cost / 3.6
    return Bracket(value=each / limit.value, low=each / limit.high, high=each / limit.low)


def _cheapest(points: Iterable[ScaledPoint], others: Iterable[OtherValue]) -> str:
    known = [(one.thousand_steps.value, one.words) for one in points if one.thousand_steps is not None]
    sure = [one for one in others if not one.wide]
    known += [(one.thousand_steps.value, one.words) for one in sure if one.thousand_steps is not None]
    return min(known)[1] if len(known) > 1 else ""


def _bracket(told: Estimate | None) -> Bracket | None:
    return Bracket(value=told.value, low=told.low, high=told.high) if told is not None else None


def _cap(cap: Cap) -> Bracket:
    times = math.exp(Z_90 * cap.error)
    return Bracket(value=cap.rate, low=cap.rate / times, high=cap.rate * times)


def _median(values: Iterable[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return statistics.median(known) if known else None
