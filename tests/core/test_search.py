"""The choice of levels: what is foretold, and what a level decides before its time."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core import queueing
from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.load_profile import Target
from stonekettle.core.objectives import Objective
from stonekettle.core.orders import Order, Ordered
from stonekettle.core.queueing import Station
from stonekettle.core.run_data import RunData
from stonekettle.core.search import Bounds, End, Go, Over, Search, Stage, Stay
from tests.conftest import steady_run

GOAL = Objective(1, "response", 0.1, 95.0)


@pytest.mark.parametrize("servers", [1, 4])
def test_an_arriving_user_finds_what_the_exact_network_says(servers: int) -> None:
    """Two stations of which one only delays: mean response by the arrival theorem and by convolution agree."""
    users, delay_s, demand_s = 30, 1.0, 0.2
    found = queueing.found_by_arrival(users, delay_s, demand_s, servers)
    assert found.shape == (users,)
    assert found.sum() == pytest.approx(1)
    ahead = np.maximum(np.arange(users) - servers + 1, 0)
    response = demand_s + float(found @ ahead) * demand_s / servers
    exact = queueing.solve([Station.servers("s", demand_s, servers)], delay_s, users).response_s[-1]
    assert response == pytest.approx(float(exact), rel=1e-6)


def ordered(users: float) -> Ordered:
    return Ordered((Order(1, 0.0, {"everyone": Target.steady(users)}),))


def slow_run(share_slow: float, seconds: int) -> RunData:
    """A steady run at 50 steps/s of which such a share takes ten times as long."""
    run = steady_run(seconds=seconds)
    second = np.repeat(np.arange(seconds), 50)
    slow = np.tile(np.arange(50) < round(50 * share_slow), seconds)
    times = np.where(slow, 400_000, 40_000)
    series = HistogramSeries.from_observations(second, np.zeros_like(second), times)
    return replace(run, histograms=series, low_histograms=series)


def enclosing(load: float) -> Search:
    search = Search(Bounds(1, 1000, 600), [GOAL])
    search.first()
    search._go(load, Stage.ENCLOSE)
    return search


@pytest.mark.parametrize(("share", "seconds", "decided"), [(0.3, 20, True), (0.0, 45, True), (0.04, 30, False)])
def test_a_level_that_only_encloses_ends_as_soon_as_it_is_decided(share: float, seconds: int, decided: bool) -> None:
    said = enclosing(100).look(slow_run(share, seconds), ordered(100))
    assert isinstance(said, Stay) != decided


def test_it_begins_light_and_goes_to_where_something_happens() -> None:
    search = Search(Bounds(2, 400, 600), [GOAL])
    assert search.first() == Go(2.0, Stage.LIGHT, None)
    said = search.look(steady_run(users=2, seconds=15, rate=1), ordered(2))
    assert isinstance(said, Go)
    assert (said.stage, said.load) == (Stage.LIGHT, 6)


def test_more_than_three_times_the_highest_load_is_never_asked() -> None:
    search = Search(Bounds(5, 5000, 600), [Objective(1, "response", 30.0, 95.0)])
    load, levels = search.first().load, []
    for _ in range(5):
        said = search.look(steady_run(users=load, seconds=90), ordered(load))
        assert isinstance(said, Go)
        levels.append(said.load / load)
        load = said.load
    assert max(levels) <= 3.0


def test_time_ends_it_with_what_is_known() -> None:
    search = Search(Bounds(5, 5000, 60), [GOAL])
    search.first()
    said = search.look(steady_run(users=5, seconds=60), ordered(5))
    assert said == Over(End.TIME, None, None, 1)


def test_levels_are_users_and_never_the_same_twice_in_a_row() -> None:
    search = Search(Bounds(1, 10, 600), [GOAL])
    loads = [search._go(load, Stage.AROUND).load for load in (4.2, 4.4, 3.6, 10.4, 12.0)]
    assert loads == [4, 5, 4, 10, 9]
