"""What does the load that a system bears cost?

Instances cost by the hour, whatever they do: a step costs the hour's price over the steps that are done in it, and a
user the month's over the users that are served well at a time. Both are lowest at the limit, and are told there.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.analysis import Analysis
from stonekettle.core.levels import Level
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import CoreInputError, Declined, Estimate

HOURS_A_MONTH = 365.25 * 24 / 12

At = Literal["comfort limit", "saturation", "tried"]
"""Where costs are told: at the comfort limit; where no objective tells one, at the saturation point; and where neither
was reached, at the highest load tried."""


@dataclass(frozen=True)
class Cost:
    """What a system costs at a ``load``: 1,000 steps, and, where people do not come by rate, a user in a month. They
    cost ``at_most`` so much where the load could be higher."""

    at: At
    load: float
    thousand_steps: Estimate
    user_month: Estimate | None
    at_most: bool


def cost(analysis: Analysis, per_hour: float) -> Cost | None:
    """At a price of the system ``per_hour``. None where no load is known that it bears. Raises
    :class:`CoreInputError` for a price below 0."""
    if not per_hour >= 0:
        raise CoreInputError(f"per_hour: {per_hour} is no price. Give one of 0 or more.")
    comfort, point, levels = analysis.comfort, analysis.saturation, analysis.levels
    if not levels or (isinstance(comfort, Declined) and comfort.reason.of_measuring):
        return None
    at: At = "tried"
    load, at_most = _exactly(max(level.load.delivered for level in levels)), True
    if isinstance(comfort, ComfortLimit):
        if comfort.status == "below":
            return None
        at, load, at_most = "comfort limit", comfort.load or _exactly(comfort.tested), comfort.load is None
    elif isinstance(point, Saturation) and point.status == "reached" and point.load is not None:
        at, load, at_most = "saturation", point.load, False
    elif isinstance(point, Declined) and point.reason.of_measuring:
        return None
    rate = _rate_at(load, levels)
    if not rate.low > 0:
        return None
    users = _over(per_hour * HOURS_A_MONTH, load) if analysis.load_kind == "users" and load.low > 0 else None
    return Cost(at, load.value, _over(per_hour / 3.6, rate), users, at_most)


def _exactly(load: float) -> Estimate:
    return Estimate(load, load, load)


def _rate_at(load: Estimate, levels: Sequence[Level]) -> Estimate:
    """Steps per second at a load and at the ends of its interval; throughput does not fall on the way to a limit."""
    ordered = sorted(levels, key=lambda level: level.load.delivered)
    loads = [0.0, *(level.load.delivered for level in ordered)]
    rates = np.maximum.accumulate([0.0, *(level.throughput for level in ordered)])
    value, low, high = (float(np.interp(one, loads, rates)) for one in (load.value, load.low, load.high))
    return Estimate(value, low, high, load.confidence)


def _over(amount: float, by: Estimate) -> Estimate:
    return Estimate(amount / by.value, amount / by.high, amount / by.low, by.confidence)
