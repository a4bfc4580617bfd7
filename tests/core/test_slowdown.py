"""Room for more users: the indices by hand, where they cross, and what is claimed beyond what was tried."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import pytest

from stonekettle.core import saturation, slowdown
from stonekettle.core.analysis import analyse
from stonekettle.core.distribution import Law
from stonekettle.core.levels import Level
from stonekettle.core.limit import Response
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import RunData
from stonekettle.core.slowdown import Index, Scored, Served
from stonekettle.core.types import CoreInputError
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate
from tests.conftest import climb


def served(number: int, load: float, means: Sequence[float], count: int = 50, blocks: int = 6) -> Served:
    counts = np.full((blocks, len(means)), float(count))
    return Served(number, load, 0.0, counts, counts * np.array(means))


def test_the_slowdown_is_the_geometric_mean_of_the_steps_each_counting_alike() -> None:
    found = slowdown.slowdown([served(2, 20, (0.04, 2.0)), served(1, 10, (0.02, 2.0)), served(3, 30, (0.08, 8.0))])
    assert found is not None
    assert found.levels == (1, 2, 3)
    assert found.values == pytest.approx([1.0, math.sqrt(2), 4.0])
    assert found.se == pytest.approx([0.0, 0.0, 0.0], abs=1e-12)
    assert found.steps == (0, 1)


def test_a_step_with_few_answers_counts_for_nothing_and_without_any_there_is_none() -> None:
    rare = Served(2, 20, 0.0, np.array([[50.0, 4.0]]), np.array([[2.0, 400.0]]))
    light = Served(1, 10, 0.0, np.array([[50.0, 50.0]]), np.array([[1.0, 1.0]]))
    found = slowdown.slowdown([light, rare])
    assert found is not None
    assert (found.steps, found.values[1]) == ((0,), pytest.approx(2.0))
    assert slowdown.slowdown([light, Served(2, 20, 0.0, np.zeros((1, 2)), np.zeros((1, 2)))]) is None
    assert slowdown.slowdown([light]) is None


def test_its_error_is_that_of_blocks_that_differ() -> None:
    random = np.random.default_rng(3)
    values, told = [], []
    for _ in range(200):
        levels = []
        for number, mean in enumerate((0.1, 0.3)):
            by_block = mean * np.exp(random.normal(0, 0.2, 12))[:, None]
            counts = np.full((12, 1), 40.0)
            levels.append(Served(number, 10.0 + number, 0.0, counts, counts * by_block))
        found = slowdown.slowdown(levels)
        assert found is not None
        values.append(found.logs[1])
        told.append(found.se[1])
    assert np.mean(told) == pytest.approx(np.std(values), rel=0.2)


def test_apdex_counts_what_tolerates_as_a_half() -> None:
    found = slowdown.apdex([Scored(1, 10, 0.0, np.array([70.0, 80.0]), np.array([100.0, 100.0]))])
    assert found is not None
    assert found.values[0] == pytest.approx(0.75, abs=0.005)
    low, high = found.ends()
    assert low[0] < 0.75 < high[0]
    assert slowdown.apdex([Scored(1, 10, 0.0, np.array([9.0]), np.array([9.0]))]) is None


LOADS = np.array([10.0, 20, 30, 40, 50])


def index(values: Sequence[float], kind: str = "slowdown") -> Index:
    logs = np.log(values if kind == "slowdown" else 1 - np.array(values))
    return Index(kind, (1, 2, 3, 4, 5), LOADS, 0 * LOADS, logs, np.full(5, 0.01))  # type: ignore[arg-type]


def test_a_crossing_lies_between_the_levels_around_it() -> None:
    found = slowdown.room(index((1, 1.1, 1.5, 2.5, 6)), 2.0)
    assert (found.status, found.more) == ("crosses", 0.0)
    assert found.load is not None
    assert 30 < found.load.low < found.load.value < found.load.high < 42
    assert slowdown.room(index((0.999, 0.99, 0.95, 0.7, 0.3), "apdex"), 0.85).status == "crosses"
    assert slowdown.room(index((0.8, 0.7, 0.6, 0.5, 0.3), "apdex"), 0.85).status == "already"


def test_without_demands_nothing_is_told_beyond_what_was_tried() -> None:
    found = slowdown.room(index((1, 1.02, 1.05, 1.1, 1.2)), 2.0)
    assert (found.status, found.load, found.more, found.extrapolated) == ("not reached", None, 0.0, False)


def test_by_demands_it_goes_on_as_the_response_does_and_no_further_than_twice_the_load() -> None:
    curve = Response(lambda loads: 0.1 / np.maximum(1 - loads / 100, 0.02), 0.05, 1.0)
    following = [0.9 / (1 - load / 100) for load in LOADS]
    found = slowdown.room(index(following), 3.0, curve)
    assert found.extrapolated
    assert found.load is not None
    assert found.load.value == pytest.approx(70, abs=2)
    assert found.load.low < 70 < found.load.high
    assert 0 < found.more < 20
    far = slowdown.room(index(following), 900.0, curve)
    assert (far.load, far.more) == (None, 50.0)


@pytest.mark.parametrize(("kind", "limit"), [("slowdown", 1.0), ("slowdown", 1e9), ("apdex", 1.0), ("apdex", 0.0)])
def test_a_limit_that_can_be_none_is_refused(kind: str, limit: float) -> None:
    values = (1.1,) * 5 if kind == "slowdown" else (0.9,) * 5
    with pytest.raises(CoreInputError, match="limit"):
        slowdown.room(index(values, kind), limit)


STEPS = 3


def parts(run: RunData, levels: Sequence[Level]) -> list[Served]:
    found = []
    for level in levels:
        window = level.window(run.seconds)
        block = window.block_of_second[window.used]
        count, took_s = (
            np.stack([np.bincount(block, each[window.used][:, step], window.blocks) for step in range(STEPS)], axis=1)
            for each in (run.completed - run.errors, run.response_sum_s)
        )
        found.append(Served(level.number, level.load.delivered, level.load.blind, count, took_s))
    return found


def index_of(config: PracticeConfig, top: int, count: int, hold_s: float, seed: int) -> tuple[Index, Response | None]:
    profile = climb(max(1, top // count), top, max(1, top // count), hold_s)
    journey = TwinJourney("visit", 1.0, tuple(TwinStep(f"GET /{i}", Law("exponential", 1.0)) for i in range(STEPS)))
    run = simulate(config, [journey], profile, seed=seed)
    analysis = analyse(run, as_planned(profile), [], 0.05)
    found = slowdown.slowdown(parts(run, analysis.levels))
    assert found is not None
    return found, saturation.response_curve(analysis.levels, analysis.hardware_demands)


def test_of_systems_tried_to_three_quarters_there_is_as_much_room_as_is_said() -> None:
    """The truth is where long levels cross. What is claimed at least holds, and some of it is claimed."""
    held, shares = [], []
    for seed in range(6):
        random = np.random.default_rng(seed)
        config = PracticeConfig(
            (Component("web", cpus=int(random.integers(1, 4))), Component("store", cpus=int(random.integers(1, 4)))),
            tuple(
                Route("GET", f"/{i}", (Visit("web", random.uniform(3, 15)), Visit("store", random.uniform(3, 40))))
                for i in range(STEPS)
            ),
        )
        demands = [
            np.mean([route.visits[place].cpu_ms for route in config.routes]) / 1e3 / config.components[place].cpus
            for place in (0, 1)
        ]
        whole, _ = index_of(config, int(1.5 / max(demands)), 12, 60, 50 + seed)
        truth = slowdown.room(whole, 2.0)
        assert truth.load is not None
        tried, curve = index_of(config, int(0.75 * truth.load.value), 6, 25, seed)
        found = slowdown.room(tried, 2.0, curve)
        held.append(found.more <= 1.02 * truth.load.value - found.tested)
        shares.append(found.more / (truth.load.value - found.tested))
    assert sum(held) >= 5
    assert np.median(shares) > 0.1
