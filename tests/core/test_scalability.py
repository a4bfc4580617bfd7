"""The scalability law, on throughputs whose constants are known."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core import scalability
from stonekettle.core.distribution import Law
from stonekettle.core.levels import measure
from stonekettle.core.orders import as_planned
from stonekettle.core.types import CoreInputError
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate
from tests.conftest import ROUTE, climb, one_server_system

N = np.array([1.0, 2, 4, 8, 12, 16, 24, 32])


@pytest.mark.parametrize(
    ("law", "alone", "contention", "coherency"),
    [("linear", 20.0, 0.0, 0.0), ("contention", 20.0, 0.06, 0.0), ("coherency", 35.0, 0.03, 0.002)],
)
def test_the_constants_and_the_law_that_made_the_data_are_found(
    law: str, alone: float, contention: float, coherency: float
) -> None:
    rates = alone * N / (1 + contention * (N - 1) + coherency * N * (N - 1))
    random = np.random.default_rng(7)
    right = 0
    for _ in range(60):
        found = scalability.fit(N, rates * np.exp(random.normal(0, 0.015, N.size)), 0.015 * rates)
        right += found.law == law
        assert found.alone == pytest.approx(alone, rel=0.08)
        assert found.contention == pytest.approx(contention, abs=0.02)
        assert found.throughput(N) == pytest.approx(rates, rel=0.06)
    assert right >= 48, "a simpler law than the true one, or a richer one, is the exception"


def test_a_server_shared_by_people_who_do_not_think_follows_contention_that_is_all_there_is() -> None:
    """Of one server all work is one at a time: contention is the whole from the second on, and nothing grows."""
    profile = climb(1, 8, 1, 20)
    journeys = [TwinJourney("visit", 1.0, (TwinStep(ROUTE, Law("fixed", 0.0)),))]
    run = simulate(one_server_system(10.0, servers=1), journeys, profile, seed=3)
    found = scalability.of_levels(measure(run, as_planned(profile).levels()))
    assert found is not None
    assert found.law == "contention"
    assert found.contention == pytest.approx(1.0, abs=0.15)
    assert found.alone == pytest.approx(100, rel=0.1)


def test_where_people_think_or_points_are_few_there_is_none() -> None:
    profile = climb(10, 80, 10, 15)
    journeys = [TwinJourney("visit", 1.0, (TwinStep(ROUTE, Law("exponential", 1.0)),))]
    levels = measure(simulate(one_server_system(5.0), journeys, profile), as_planned(profile).levels())
    assert scalability.of_levels(levels) is None
    with pytest.raises(CoreInputError, match="needs 6 throughputs above 0, not 3"):
        scalability.fit(N[:3], N[:3], N[:3])
    with pytest.raises(CoreInputError, match="above 0"):
        scalability.fit(N, N * 0, N)
