"""What no meter sees ahead of a limit: a lock is told from what takes its time at any load."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core import analysis
from stonekettle.core.analysis import Analysis
from stonekettle.core.hidden import Rest, evidence, rest_of
from stonekettle.core.orders import as_planned
from stonekettle.practice.twin import simulate
from tests.conftest import climb, one_server_system, visits

RATES = np.array([40.0, 80.0, 120.0, 160.0, 200.0])
ERROR = np.full(5, 0.0008)
LIMITS = np.array([150.0, 230.0, 260.0, 300.0, 400.0, 4000.0])


def left(lock: float | None, delay_s: float = 0.01) -> Rest:
    inside = np.zeros(5) if lock is None else 1 / lock / (1 - RATES / lock)
    return Rest(RATES, delay_s + inside, ERROR)


def test_a_lock_grows_as_it_fills_and_says_where_it_is_full() -> None:
    found = evidence([left(260.0)], LIMITS)
    assert LIMITS[found.argmax()] == 260
    assert found.max() > 10
    # One that has not come near, or that would be full by now, is not what was seen.
    assert abs(found[-1]) < 0.1 * found.max()
    assert found[0] < 0


def test_what_takes_its_time_at_any_load_is_no_lock() -> None:
    for delay_s in (0.0, 0.05):
        found = evidence([left(None, delay_s)], LIMITS)
        assert found[0] < found[1] < found[2] < -10
        assert found[-1] == pytest.approx(0, abs=0.1)


def test_runs_add_up_and_none_say_nothing() -> None:
    one, both = evidence([left(260.0)], LIMITS), evidence([left(260.0), left(260.0)], LIMITS)
    np.testing.assert_allclose(both, 2 * one)
    np.testing.assert_allclose(evidence([], LIMITS), 0)


def played(lock_ms: float = 0.0, most: int = 130) -> Analysis:
    """A climb to some 300 steps/s on a server that bears 400."""
    profile = climb(most // 6, most, most // 6, hold_s=60)
    run = simulate(one_server_system(20.0, servers=8, lock_ms=lock_ms), visits(0.4), profile, seed=3)
    return analysis.analyse(run, as_planned(profile), [], 0.05)


def test_a_run_that_nears_a_lock_tells_of_it_and_one_without_does_not() -> None:
    limits = np.array([350.0, 20_000.0])
    near, without = rest_of(played(lock_ms=1000 / 350)), rest_of(played())
    assert near is not None
    assert without is not None
    assert evidence([near], limits)[0] > 3
    assert evidence([without], limits)[0] < -3
    assert evidence([without], limits)[1] == pytest.approx(0, abs=0.5)


def test_full_hardware_and_too_few_levels_tell_nothing() -> None:
    there, beyond = rest_of(played()), rest_of(played(most=420))
    assert there is not None
    assert there.rate.max() < 0.88 * 400
    # From the third level on the server is full.
    assert beyond is None
