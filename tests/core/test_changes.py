"""What was not the same all the time is found, and nothing is where all was."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core import analysis, changes
from stonekettle.core.changes import Change
from stonekettle.core.levels import measure
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import PlannedLevel, as_planned
from stonekettle.core.run_data import ResourceSeries
from stonekettle.core.saturation import Saturation
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate
from tests.conftest import ROUTE, one_server_system, steady_run, visits

CLIMB = Segment.climb(20, 180, 20, 30)
RETURN = Segment.hold(40, 30)
BACK = LoadProfile((CLIMB, RETURN))
MINUTES = BACK.duration_s / 60


def found_in(config: PracticeConfig, profile: LoadProfile = BACK, seed: int = 4) -> tuple[Change, ...]:
    run = simulate(config, visits(1.0), profile, seed=seed)
    return changes.find(run, measure(run, as_planned(profile).levels()))


def analysed(config: PracticeConfig, profile: LoadProfile = BACK, seed: int = 4) -> analysis.Analysis:
    run = simulate(config, visits(1.0), profile, seed=seed)
    return analysis.analyse(run, as_planned(profile), [], 0.05)


def slowing(share: float) -> PracticeConfig:
    return one_server_system(20, servers=2, slows_per_minute=share / MINUTES)


@pytest.mark.parametrize("seed", range(4))
def test_a_system_that_stays_the_same_is_not_said_to_change(seed: int) -> None:
    assert found_in(one_server_system(20, servers=2), seed=seed) == ()
    assert found_in(one_server_system(20, servers=2), LoadProfile((CLIMB,)), seed=seed) == ()


@pytest.mark.parametrize("seed", range(4))
def test_work_that_grows_by_three_tenths_is_told_with_its_size(seed: int) -> None:
    (change,) = found_in(slowing(0.3), seed=seed)
    assert (change.kind, change.subject) == ("slower", "shop.cpu")
    # Between the first visit to 40 users and the last.
    assert change.size == pytest.approx(0.23, abs=0.12)
    assert change.load == pytest.approx(40, abs=1)


def test_a_cache_that_warms_is_told() -> None:
    (change,) = found_in(one_server_system(20, servers=2, cold_factor=2.0, warms_over=4_000))
    assert change.kind == "faster"
    assert change.size > 0.1


def test_what_is_claimed_of_an_ageing_system_is_wider_and_holds_at_the_highest_load() -> None:
    """At the levels beyond saturation some 80 of the 100 steps/s are left that it did at first."""
    steady, ageing = analysed(one_server_system(20, servers=2)), analysed(slowing(0.3))
    for found in (steady, ageing):
        assert isinstance(found.saturation, Saturation)
        assert found.saturation.throughput is not None
    before, after = steady.saturation.throughput, ageing.saturation.throughput  # type: ignore[union-attr]
    assert before is not None
    assert after is not None
    assert after.low < 100 / 1.24 < after.high
    assert after.high < 100
    assert after.high - after.low > 1.5 * (before.high - before.low)


def test_without_meters_the_response_at_the_same_load_tells() -> None:
    (change,) = found_in(one_server_system(20, servers=2, slows_per_minute=0.12, metered=False))
    assert (change.kind, change.subject) == ("slower", "response")
    assert change.size > 0.2


@pytest.mark.parametrize(("every_s", "length_s"), [(15, 1.0), (24, 2.5)])
def test_a_job_at_regular_times_is_told_with_its_period(every_s: float, length_s: float) -> None:
    config = one_server_system(20, servers=4, job_every_s=every_s, job_s=length_s, job_cpus=4)
    (change,) = found_in(config, LoadProfile((Segment.climb(20, 180, 20, 40),)))
    assert change.kind == "periodic"
    assert change.period_s == pytest.approx(every_s, rel=0.05)


def test_events_at_random_times_are_not_periodic() -> None:
    irregular = changes._regular([(at, 1.0) for at in (3.0, 19.0, 24.0, 61.0, 83.0, 88.0, 131.0)])
    assert irregular is not None
    assert irregular[0] > changes.RARE
    assert changes._regular([(at, 1.0) for at in (3.0, 23.0, 43.0)]) is None


def test_a_job_that_each_figure_shows_only_a_part_of_is_told_by_all_of_them_together() -> None:
    """Below saturation the processors tell it, beyond it the throughput: three times each."""
    config = one_server_system(20, servers=4, job_every_s=24, job_s=2.5, job_cpus=4)
    (change,) = found_in(config, LoadProfile((Segment.climb(60, 300, 60, 30),)))
    assert change.kind == "periodic"
    assert change.period_s == pytest.approx(24, rel=0.05)


def test_an_overload_that_does_not_end_with_the_load_is_told() -> None:
    """Who gives up after a second is served all the same: the queue that 200 users left is still there for 60."""
    profile = LoadProfile((Segment.climb(20, 200, 20, 25), Segment.hold(60, 25)))
    journeys = [TwinJourney("visit", 1.0, (TwinStep(ROUTE, visits(1.0)[0].steps[0].think, limit_s=0.5),))]
    run = simulate(one_server_system(20, servers=2), journeys, profile, seed=2)
    change, *_ = changes.find(run, measure(run, as_planned(profile).levels()))
    assert (change.kind, change.subject) == ("not recovered", "throughput")
    assert change.size > 0.5
    assert change.load == pytest.approx(60, abs=1)


def test_what_costs_exactly_the_same_each_second_is_no_change_and_no_fault() -> None:
    busy = ResourceSeries("shop", "cpu", "cpu", np.full(120, 4.0), np.full(120, 0.5))
    run = steady_run(seconds=120, resources=(busy,))
    levels = measure(run, (PlannedLevel(0, 60, 100.0), PlannedLevel(60, 120, 100.0)))
    assert changes.find(run, levels) == ()
