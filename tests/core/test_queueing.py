"""Closed networks against textbook formulas."""

from __future__ import annotations

import math

import numpy as np
import pytest

from stonekettle.core.queueing import Station, flow_equivalent, solve, throughput_at, throughput_limit
from stonekettle.core.types import CoreInputError


def test_one_user_waits_for_nobody() -> None:
    found = solve([Station.servers("a", 0.2, 1), Station.servers("b", 0.3, 2)], 1.5, 1)
    assert found.throughput[0] == pytest.approx(1 / 2.0)
    assert found.response_s[0] == pytest.approx(0.5)


def test_a_machine_with_one_repairman_matches_the_closed_form() -> None:
    """The machine repair model (M/M/1//N): P₀ = 1/Σ N!/(N−k)!·(S/Z)^k."""
    n, service, think = 6, 0.5, 3.0
    p0 = 1 / sum(math.factorial(n) / math.factorial(n - k) * (service / think) ** k for k in range(n + 1))
    found = solve([Station.servers("repair", service, 1)], think, n)
    assert found.throughput[-1] == pytest.approx((1 - p0) / service)


def test_as_many_servers_as_users_never_queue() -> None:
    found = solve([Station.servers("wide", 0.4, 10)], 1.0, 10)
    assert np.allclose(found.response_s, 0.4)


def test_balanced_queues_without_think_time_match_the_closed_form() -> None:
    """K equal queues and N users: X = N / (N + K − 1) / D (Lazowska et al. 1984, ch. 5)."""
    k, n, demand = 3, 7, 0.1
    found = solve([Station.servers(str(i), demand, 1) for i in range(k)], 0.0, n)
    assert found.throughput[-1] == pytest.approx(n / (n + k - 1) / demand)


def test_throughput_approaches_the_slowest_station() -> None:
    stations = [Station.servers("a", 0.02, 4), Station.servers("b", 0.03, 2)]
    found = solve(stations, 1.0, 400)
    assert throughput_limit(stations) == pytest.approx(2 / 0.03)
    assert found.throughput[-1] == pytest.approx(2 / 0.03, rel=1e-6)
    assert np.all(np.diff(found.throughput) > -1e-9)


def test_a_pool_of_one_serves_one_at_a_time() -> None:
    pool = flow_equivalent("pool", [Station.servers("cpu", 0.1, 8), Station.servers("disk", 0.05, 4)], 1)
    assert pool.limit == pytest.approx(1 / 0.15)


def test_impossible_stations_and_populations_are_refused() -> None:
    with pytest.raises(CoreInputError, match="demand_s"):
        Station.servers("a", 0.0, 1)
    with pytest.raises(CoreInputError, match="users"):
        solve([Station.servers("a", 0.1, 1)], 1.0, 0)


@pytest.mark.parametrize(
    ("think_s", "stations"),
    [
        (1.0, [Station.servers("a", 0.02, 2), Station.servers("b", 0.05, 8)]),
        (0.0, [Station.servers("a", 0.05, 1), Station.servers("b", 0.05, 1)]),
        (2.0, [Station("falling", 1 / (0.01 * (1 + 0.02 * np.arange(60)))), Station.servers("b", 0.03, 4)]),
    ],
)
def test_a_few_populations_are_solved_as_all_of_them(think_s: float, stations: list[Station]) -> None:
    exact = solve(stations, think_s, 250)
    some = np.array([1.0, 2.0, 17.0, 110.0, 249.0])
    assert throughput_at(stations, think_s, some) == pytest.approx(exact.throughput[some.astype(int) - 1], rel=1e-9)
    between = float(throughput_at(stations, think_s, np.array([16.5]))[0])
    assert between == pytest.approx(exact.throughput[15:17].mean(), rel=1e-9)


@pytest.mark.parametrize(("think_s", "most"), [(0.0, 900), (2.0, 900), (30.0, 60_000)])
def test_populations_that_are_worked_together_are_as_each_by_itself(think_s: float, most: float) -> None:
    stations = [Station.servers(f"{k}", 0.001 * (1 + k % 7), 1 + k % 5) for k in range(12)]
    users = np.random.default_rng(3).permutation(np.concatenate([[0.5, 1.0, 1.5], np.geomspace(2, most, 60)]))
    each = [float(throughput_at(stations, think_s, np.array([n]))[0]) for n in users]
    assert throughput_at(stations, think_s, users) == pytest.approx(each, rel=1e-9)


def test_tens_of_thousands_of_users_are_solved_too() -> None:
    stations = [Station.servers("a", 0.02, 40), Station.servers("b", 0.5, 1200)]
    below, beyond = throughput_at(stations, 10.0, np.array([15_000.0, 40_000.0]))
    assert below == pytest.approx(15_000 / 10.52, rel=1e-3)
    assert beyond == pytest.approx(2_000, rel=1e-6)
