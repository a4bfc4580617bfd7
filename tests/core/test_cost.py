"""What steps and users cost, by hand-made limits."""

from __future__ import annotations

from dataclasses import replace

import pytest

from stonekettle.core.analysis import Analysis
from stonekettle.core.cost import HOURS_A_MONTH, cost
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import CoreInputError, Declined, Estimate, Reason
from tests.conftest import climb
from tests.report.test_explain import analysed
from tests.report.test_suspects import TWO


@pytest.fixture(scope="module")
def found() -> Analysis:
    """Nine levels of 20 to 180 users; each brings nearly one step a second until two cores are full."""
    return analysed(TWO, climb(20, 180, 20))


def limited(found: Analysis, load: Estimate | None, status: str = "found") -> Analysis:
    comfort = ComfortLimit(status, load, 180.0, 0.0, None, ())  # type: ignore[arg-type]
    return replace(found, comfort=comfort)


def test_a_thousand_steps_and_a_user_cost_what_the_hour_does_over_those_at_the_limit(found: Analysis) -> None:
    level = found.levels[2]
    load = Estimate(level.load.delivered, 40.0, 80.0)
    told = cost(limited(found, load), 3.6)
    assert told is not None
    assert (told.at, told.load, told.at_most) == ("comfort limit", level.load.delivered, False)
    # 3.60 an hour is a thousandth a second.
    assert told.thousand_steps.value == pytest.approx(1.0 / level.throughput)
    assert told.thousand_steps.low < told.thousand_steps.value < told.thousand_steps.high
    assert told.user_month is not None
    assert told.user_month.value == pytest.approx(3.6 * HOURS_A_MONTH / level.load.delivered)
    assert told.user_month.high == pytest.approx(3.6 * HOURS_A_MONTH / 40)


def test_where_it_could_be_more_it_is_at_most_that(found: Analysis) -> None:
    told = cost(limited(found, None, "holds"), 3.6)
    assert told is not None
    assert (told.load, told.at_most) == (180.0, True)
    without = replace(found, comfort=Declined(Reason.NO_OBJECTIVES))
    assert isinstance(found.saturation, Saturation)
    reached = cost(without, 3.6)
    assert reached is not None
    assert (reached.at, reached.at_most) == ("saturation", False)
    tried = cost(replace(without, saturation=Declined(Reason.NOT_REACHED)), 3.6)
    assert tried is not None
    assert (tried.at, tried.at_most) == ("tried", True)
    arriving = cost(replace(limited(found, Estimate(60, 55, 65)), load_kind="arrivals"), 3.6)
    assert arriving is not None
    assert arriving.user_month is None, "who comes and goes is nobody's month"


def test_of_a_load_that_is_not_known_to_be_borne_nothing_is_told(found: Analysis) -> None:
    assert cost(limited(found, Estimate(20, 18, 22), "below"), 3.6) is None
    assert cost(replace(found, comfort=Declined(Reason.BLURRED)), 3.6) is None
    generator = Declined(Reason.GENERATOR)
    assert cost(replace(found, comfort=Declined(Reason.NO_OBJECTIVES), saturation=generator), 3.6) is None
    assert cost(replace(found, levels=()), 3.6) is None
    with pytest.raises(CoreInputError, match="per_hour: -1"):
        cost(found, -1)
