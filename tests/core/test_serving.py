"""How steps are served: against closed forms of queues, and against the exact solution of closed networks."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import pytest

from stonekettle.core.objectives import Objective
from stonekettle.core.queueing import Station as Queue
from stonekettle.core.queueing import have_to_wait, throughput_at
from stonekettle.core.serving import (
    GUESS,
    Peak,
    Seen,
    SeenLevel,
    Serving,
    Station,
    Step,
    System,
    light_quantiles,
    weights,
)
from stonekettle.core.types import CoreInputError, FloatArray


def exponential(mean_s: float, count: int = 400) -> FloatArray:
    """Quantiles of exponential times, shifted so that their mean is right."""
    found = -np.log1p(-(np.arange(count) + 0.5) / count)
    return np.asarray(found / found.mean() * mean_s)


def system(stations: Sequence[Station], light_s: float, think_s: float = 1.0) -> System:
    step = Step("visit", 1.0, exponential(light_s), np.ones(len(stations)), np.ones(len(stations)))
    return System(tuple(dict.fromkeys(s.component for s in stations)), tuple(stations), (step,), think_s)


def test_who_has_to_wait_is_told_as_for_one_server_and_for_many() -> None:
    assert have_to_wait(np.array([0.3, 0.8]), np.array([1.0, 1.0])) == pytest.approx([0.3, 0.8])
    # Two servers: 2ρ²/(1 + ρ).
    assert have_to_wait(np.array([1.2]), np.array([2.0])) == pytest.approx([2 * 0.36 / 1.6])
    by_sum = sum(40.0**k / math.factorial(k) for k in range(50))
    last = 40.0**50 / math.factorial(50) / (1 - 0.8)
    assert have_to_wait(np.array([40.0]), np.array([50.0])) == pytest.approx([last / (by_sum + last)])


def test_a_lone_server_answers_as_slowly_as_its_closed_form_says() -> None:
    own = system([Station("a.cpu", "a", 1, 0.05)], 0.05)
    serving = Serving(own, [Objective(1, "mean", 1.0)], draws=1)
    for busy in (0.2, 0.5, 0.8):
        (mean_s,) = serving.judged_s(Peak("rate", busy / 0.05), [1], serving.goals[0])
        assert mean_s == pytest.approx(0.05 / (1 - busy), rel=0.03)


def test_the_percentile_of_a_lone_server_is_that_of_an_exponential_time() -> None:
    own = system([Station("a.cpu", "a", 1, 0.05)], 0.05)
    goal = Objective(1, "response", 1.0, 95.0)
    (p95_s,) = Serving(own, [goal], draws=1).judged_s(Peak("rate", 14.0), [1], goal)
    assert p95_s == pytest.approx(math.log(20) * 0.05 / (1 - 0.7), rel=0.06)


def test_people_come_as_often_as_the_exact_solution_of_their_network_says() -> None:
    stations = [Station("a.cpu", "a", 2, 0.02), Station("b.cpu", "b", 4, 0.03)]
    serving = Serving(system(stations, 0.05, think_s=2.0), [], draws=1)
    queues = [Queue.servers("a", 0.02, 2), Queue.servers("b", 0.03, 4)]
    for users in (50, 120, 170):
        exact = throughput_at(queues, 2.0, np.array([float(users)]))[0]
        assert serving.served(Peak("users", users), [1, 1]).rate[0] == pytest.approx(exact, rel=0.02)


def test_instances_and_their_size_count_alike() -> None:
    own = system([Station("a.cpu", "a", 2, 0.05)], 0.05)
    peak, goal = Peak("rate", 100.0), Objective(1, "response", 1.0, 95.0)
    many = Serving(own, [goal]).judged_s(peak, [4], goal)
    big = Serving(own.sized({"a": 2.0}), [goal]).judged_s(peak, [2], goal)
    assert many == pytest.approx(big)


def test_what_cannot_keep_up_misses_every_goal() -> None:
    own = system([Station("a.cpu", "a", 1, 0.05)], 0.05)
    serving = Serving(own, [Objective(1, "response", 5.0, 95.0), Objective(2, "apdex", 0.9, target_s=1.0)])
    service = serving.served(Peak("rate", 30.0), [1])
    assert (service.utilisation > 1).all()
    assert (service.used_up > 1).all()


def test_three_percentiles_are_kept_and_the_rest_goes_on_between_them() -> None:
    told = light_quantiles(0.1, 0.3, 0.5, count=2000)
    assert np.quantile(told, [0.5, 0.95, 0.99]) == pytest.approx([0.1, 0.3, 0.5], rel=0.02)
    assert (np.diff(told) >= 0).all()
    assert light_quantiles(0.1, 0.1, 0.1) == pytest.approx(np.full(200, 0.1))


def test_a_step_that_does_not_come_by_a_station_is_seen_not_to_wait_there() -> None:
    stations = [Station("a.cpu", "a", 2, 0.02), Station("b.cpu", "b", 2, 0.02)]
    levels = []
    for rate in (20, 50, 70, 85):
        busy = np.array([rate * 0.02] * 2)
        waited = have_to_wait(busy, np.array([2.0, 2.0])) * 0.02 / (2 - busy)
        servers = np.array([2.0, 2.0])
        # The first step waits twice the mean at each, the second nowhere.
        seen = (Seen(0.05 + 2 * float(waited.sum()), 5000), Seen(0.05, 5000))
        levels.append(SeenLevel(rate, servers, seen))
    found = weights(stations, levels, np.ones((2, 2)))
    assert found[0].sum() == pytest.approx(4.0, abs=0.4)
    assert found[1].sum() < 0.35
    alone = weights(stations, levels[:1], np.ones((2, 2)))
    assert alone == pytest.approx(np.full((2, 2), GUESS))


def test_another_mix_asks_what_its_steps_ask() -> None:
    light = exponential(0.05)
    steps = (
        Step("a", 0.5, light, np.array([2.0, 0.0]), np.array([2.0, 0.0])),
        Step("b", 0.5, light, np.array([0.0, 2.0]), np.array([0.0, 2.0])),
    )
    stations = (Station("a.cpu", "a", 2, 0.01), Station("b.cpu", "b", 2, 0.03))
    mixed = System(("a", "b"), stations, steps, 1.0).mixed([3, 1])
    assert [s.demand_s for s in mixed.stations] == pytest.approx([0.015, 0.015])
    # A step's own wait does not change by how many others there are: 4/3 of three quarters is one.
    assert mixed.steps[0].waits[0] * 0.75 == pytest.approx(1.0)
    assert sum(step.share for step in mixed.steps) == pytest.approx(1.0)


def test_without_stations_or_steps_there_is_no_system() -> None:
    with pytest.raises(CoreInputError, match="stations"):
        System(("a",), (), (), 1.0)
    with pytest.raises(CoreInputError, match="steps"):
        System(("a",), (Station("a.cpu", "a", 1, 0.1),), (), 1.0)
