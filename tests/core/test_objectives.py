"""Comfort limit, breaking point and first errors."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core.levels import Level, measure
from stonekettle.core.objectives import (
    BreakingPoint,
    ComfortLimit,
    Objective,
    breaking_point,
    comfort_limit,
    first_errors,
)
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import RunData
from stonekettle.core.types import Declined, Reason
from stonekettle.practice.twin import simulate
from tests.conftest import climb, one_server_system, visits

PROFILE = climb(20, 180, 20)


@pytest.fixture(scope="module")
def loaded() -> tuple[RunData, tuple[Level, ...]]:
    """A run through saturation at 102 users."""
    run = simulate(one_server_system(20, servers=2), visits(1.0), PROFILE)
    return run, measure(run, as_planned(PROFILE).levels())


def test_the_comfort_limit_lies_between_the_levels_that_hold_and_break(
    loaded: tuple[RunData, tuple[Level, ...]],
) -> None:
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "response", 0.3)])
    assert isinstance(found, ComfortLimit)
    assert found.status == "found"
    assert found.load is not None
    below = max(lv.users for lv in levels if lv.p95_s < 0.3)
    above = min(lv.users for lv in levels if lv.p95_s > 0.3)
    assert below <= found.load.value <= above
    assert found.load.low < found.load.value < found.load.high
    assert 0 < found.throughput <= 101


def test_the_strictest_objective_decides(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "response", 5.0), Objective(2, "response", 0.2)])
    assert isinstance(found, ComfortLimit)
    assert found.deciding is not None
    assert found.deciding.number == 2
    assert found.results[0].holds
    assert not found.results[1].holds


def test_comfort_limit_declines_to_name_a_load_when_every_level_passes(
    loaded: tuple[RunData, tuple[Level, ...]],
) -> None:
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "response", 60.0)])
    assert isinstance(found, ComfortLimit)
    assert found.status == "holds"
    assert found.load is None
    assert found.tested == pytest.approx(180, abs=1)


def test_an_objective_broken_everywhere_says_so(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    run, levels = loaded
    found = comfort_limit(run, levels, [Objective(1, "response", 0.001)])
    assert isinstance(found, ComfortLimit)
    assert found.status == "below"


def test_no_objectives_no_limit(loaded: tuple[RunData, tuple[Level, ...]]) -> None:
    assert comfort_limit(*loaded, []) == Declined(Reason.NO_OBJECTIVES)


def test_errors_that_pass_the_limit_for_good_are_the_breaking_point() -> None:
    config = one_server_system(20, servers=2, refuse_over=30)
    run = simulate(config, visits(1.0), PROFILE)
    levels = measure(run, as_planned(PROFILE).levels())
    found = breaking_point(run, levels, 0.05)
    assert isinstance(found, BreakingPoint)
    assert found.load.low < found.load.value
    assert 100 < found.load.value <= 161
    assert found.error_ratio > 0.05
    (first,) = first_errors(run)
    assert first.kind == "status 503"
    assert first.second == int(np.argmax(run.errors.sum(axis=1) > 0))


def test_an_error_objective_can_decide_the_comfort_limit() -> None:
    config = one_server_system(20, servers=2, refuse_over=30)
    run = simulate(config, visits(1.0), PROFILE)
    found = comfort_limit(run, measure(run, as_planned(PROFILE).levels()), [Objective(1, "errors", 0.01)])
    assert isinstance(found, ComfortLimit)
    assert found.load is not None
    assert 80 < found.load.value < 161


def test_a_burst_of_errors_at_one_level_is_no_breaking_point(
    loaded: tuple[RunData, tuple[Level, ...]],
) -> None:
    run, _levels = loaded
    errors = run.errors.copy()
    errors[40:60] = run.completed[40:60] // 2
    hurt = replace(run, errors=errors)
    found = breaking_point(hurt, measure(hurt, as_planned(PROFILE).levels()), 0.05)
    assert isinstance(found, Declined)
    assert found.reason is Reason.NOT_REACHED
