"""What comparison reads instead of runs."""

from __future__ import annotations

import math

import numpy as np
import pytest

from stonekettle.core import analysis, facts
from stonekettle.core.facts import Fact
from stonekettle.core.objectives import ComfortLimit, Objective
from stonekettle.core.orders import as_planned
from stonekettle.practice.twin import simulate
from tests.conftest import climb, one_server_system, visits

PROFILE = climb(20, 180, 20)
RUN = simulate(one_server_system(20, servers=2), visits(1.0), PROFILE)
FOUND = analysis.analyse(RUN, as_planned(PROFILE), [Objective(1, "response", 0.3)], 0.05)
FACTS = facts.gather(RUN, FOUND)


def fact(level: int | None, subject: str, figure: str) -> Fact:
    (found,) = (f for f in FACTS if (f.level, f.subject, f.figure) == (level, subject, figure))
    return found


def test_every_level_tells_its_steps_and_resources() -> None:
    cell = RUN.cells[0]
    step = f"{cell.journey} / {cell.step}"
    for level in FOUND.levels:
        assert fact(level.number, "", "load").value == level.load.delivered
        assert fact(level.number, step, "p95").value == level.steps[0].p95_s
        assert fact(level.number, step, "mean").n == level.completions - level.errors
        assert fact(level.number, "shop.cpu", "utilisation").value == level.utilisation["shop.cpu"]


def test_blocks_are_the_logs_of_what_was_measured_in_them() -> None:
    level = FOUND.levels[1]
    told = fact(level.number, _step(), "mean")
    window = level.window(RUN.seconds)
    for block, value in enumerate(told.blocks):
        inside = window.block_of_second == block
        mean = RUN.response_sum_s[inside].sum() / (RUN.completed - RUN.errors)[inside].sum()
        assert value == pytest.approx(math.log(mean))


def _step() -> str:
    return f"{RUN.cells[0].journey} / {RUN.cells[0].step}"


def test_a_standard_error_tells_how_much_repeated_runs_differ() -> None:
    """Of forty runs that differ by chance alone: their spread is about the error each tells."""
    values, errors = [], []
    for seed in range(40):
        run = simulate(one_server_system(20, servers=2), visits(1.0), climb(60, 60, 1, hold_s=60), seed=seed)
        found = analysis.analyse(run, as_planned(climb(60, 60, 1, hold_s=60)), [], 0.05)
        told = next(f for f in facts.gather(run, found) if f.figure == "mean")
        values.append(told.value)
        errors.append(told.standard_error)
    assert 0.6 < np.std(values, ddof=1) / np.mean(errors) < 1.7


def test_claims_and_demands_stand_for_the_whole_run_with_their_errors() -> None:
    assert isinstance(FOUND.comfort, ComfortLimit)
    assert FOUND.comfort.load is not None
    told = fact(None, "", "comfort limit")
    assert told.value == FOUND.comfort.load.value
    width = FOUND.comfort.load.high - FOUND.comfort.load.low
    assert told.standard_error == pytest.approx(width / 2 / 1.645, rel=0.001)
    assert fact(None, "shop.cpu", "demand").value == pytest.approx(0.02, rel=0.05)
    assert fact(3, "shop.cpu", "demand").value == pytest.approx(0.02, rel=0.15)
