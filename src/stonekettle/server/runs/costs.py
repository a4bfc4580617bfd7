"""What a run cost, and what the load that its system bears costs, by the prices of its instances."""

from __future__ import annotations

from ninja import Schema

from stonekettle.core import cost
from stonekettle.core.cost import At
from stonekettle.core.types import Estimate
from stonekettle.report import numbers as n
from stonekettle.report import result as results
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run


class CostBetween(Schema):
    """An amount with its interval."""

    value: float
    low: float
    high: float


class CostAtLoad(Schema):
    """What 1,000 steps, and a user in a month, cost ``at`` a load, told in words; at most, where it could be higher."""

    at: At
    load: str
    thousand_steps: CostBetween
    user_month: CostBetween | None
    at_most: bool


class RunCost(Schema):
    """Amounts in ``currency``: what the instances cost ``per_hour`` and during the run, and what its ``generators``
    cost then (None: they have no price, or there were none). Nothing is told of a load where none is known to be borne,
    nor are generators part of it. ``unpriced`` are components without a price."""

    currency: str
    per_hour: float
    run: float
    generators: float | None
    simulated: bool
    unpriced: list[str]
    at_load: CostAtLoad | None


def of(run: Run) -> RunCost:
    """Raises :class:`Conflict` where the run has not ended, or no instance has a price."""
    system = run.plan.system
    per_hour = system.cost_per_hour
    if per_hour is None:
        raise Conflict(f"No component of {system.name} has a price, so nothing is known of what run {run.pk} cost.")
    if run.result is None:
        raise Conflict(f"Run {run.pk} has no result yet.")
    hours = results.stored(run.result).totals.duration_s / 3600
    price, count = run.plan.generators.price_per_hour, run.generators.count()
    analysis = findings_of(run)
    found = cost.cost(analysis, per_hour) if analysis else None
    return RunCost(
        currency=system.currency,
        per_hour=per_hour,
        run=per_hour * hours,
        generators=price * count * hours if price is not None and count and not run.simulated else None,
        simulated=run.simulated,
        unpriced=[
            component.name
            for component in system.components
            if component.instance_type is None or component.instance_type.price_per_hour is None
        ],
        at_load=CostAtLoad(
            at=found.at,
            load=n.load(found.load, analysis.load_kind),
            thousand_steps=_between(found.thousand_steps),
            user_month=_between(found.user_month) if found.user_month else None,
            at_most=found.at_most,
        )
        if analysis and found
        else None,
    )


def _between(amount: Estimate) -> CostBetween:
    return CostBetween(value=amount.value, low=amount.low, high=amount.high)
