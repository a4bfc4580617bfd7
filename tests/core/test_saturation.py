"""The saturation point: found where it is, declined where it is not."""

from __future__ import annotations

from dataclasses import replace
from unittest.mock import patch

import numpy as np
import pytest

from stonekettle.core import analysis, laws, saturation
from stonekettle.core.distribution import Law
from stonekettle.core.hinge import fit_hinge
from stonekettle.core.levels import measure
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned, planned
from stonekettle.core.run_data import HARDWARE
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Declined, Reason
from stonekettle.practice import truth
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate
from stonekettle.practice.unfit import Laborious
from tests.conftest import ROUTE, climb, one_server_system, visits


def find(config: PracticeConfig, profile: LoadProfile, think_s: float = 1.0, seed: int = 4) -> Saturation:
    run = simulate(config, visits(think_s), profile, seed=seed)
    levels = measure(run, as_planned(profile).levels())
    demands = [d for r in run.resources if r.kind in HARDWARE and (d := laws.demand(r, levels))]
    found = saturation.find(levels, demands)
    assert isinstance(found, Saturation)
    return found


def test_the_hinge_of_noiseless_data_is_exact() -> None:
    users = np.arange(10.0, 101.0, 10.0)
    hinge = fit_hinge(users, np.minimum(2 * users, 120.0), np.full(10, 0.5))
    assert hinge.break_load == pytest.approx(60, rel=0.01)
    assert hinge.slope == pytest.approx(2, rel=0.01)
    assert hinge.aicc_gain > 100


def test_saturation_is_found_near_the_truth_with_an_honest_interval() -> None:
    config = one_server_system(20, servers=2)
    real = truth.compute(config, {ROUTE: 1.0}, 1.0)
    found = find(config, climb(20, 180, 20))
    assert found.status == "reached"
    assert found.load is not None
    assert found.throughput is not None
    assert found.throughput.value == pytest.approx(real.throughput_limit, rel=0.03)
    assert found.load.value == pytest.approx(real.users, rel=0.04)
    assert found.load.low < found.load.value < found.load.high
    assert found.load_95 is not None
    assert 0.6 * real.users < found.load_95 < 1.5 * real.users


def test_nothing_is_claimed_far_below_saturation() -> None:
    found = find(one_server_system(10, servers=4), climb(10, 80, 10))
    assert found.status == "not reached"
    assert found.load is None
    assert found.at_least == pytest.approx(80, abs=1)
    assert found.next_levels[-1] > 80


def test_the_hardware_ceiling_is_known_before_it_is_reached() -> None:
    found = find(one_server_system(20, servers=2), climb(8, 56, 8, 60))
    assert found.status != "reached"
    assert found.ceiling is not None
    assert found.ceiling.throughput.value == pytest.approx(100, rel=0.05)


def test_too_few_levels_are_declined() -> None:
    profile = climb(60, 120, 30)
    levels = measure(simulate(one_server_system(20), visits(1.0), profile), as_planned(profile).levels())
    assert saturation.find(levels) == Declined("too few levels", pytest.approx(120, abs=1))


def test_a_peak_is_claimed_with_its_place_and_the_fall_beyond_it() -> None:
    """100 steps/s are the most that two servers of 20 ms do; beyond 150 users three tenths are lost."""
    profile = climb(20, 200, 20)
    run = simulate(one_server_system(20, servers=2), visits(1.0), profile)
    levels = measure(run, as_planned(profile).levels())
    fallen = [replace(lv, throughput=lv.throughput * (0.7 if lv.users > 150 else 1)) for lv in levels]
    found = saturation.find(fallen)
    assert isinstance(found, Saturation)
    assert found.status == "peaked"
    assert found.retrograde is not None
    assert found.retrograde.drop == pytest.approx(0.3, abs=0.06)
    assert found.throughput is not None
    assert found.throughput.low < 100 < found.throughput.high + 2
    assert found.throughput.value == pytest.approx(100, rel=0.05)
    assert found.load is not None
    assert 90 < found.load.low <= found.load.value < 150
    assert found.load.high == pytest.approx(160, abs=1)


def test_a_lock_that_gets_slower_with_its_queue_is_a_peak_and_no_interval_is_negative() -> None:
    """Throughput falls to a third over the levels after its peak: the plateau of all of them would be far off."""
    profile = climb(20, 200, 20)
    run = simulate(one_server_system(20, servers=2), visits(1.0), profile)
    levels = measure(run, as_planned(profile).levels())
    fall = np.interp([lv.users for lv in levels], [100, 200], [1.0, 0.33])
    found = saturation.find([replace(lv, throughput=lv.throughput * f) for lv, f in zip(levels, fall, strict=True)])
    assert isinstance(found, Saturation)
    assert (found.status, found.throughput is not None) == ("peaked", True)
    assert found.throughput is not None
    assert found.throughput.low > 0
    assert found.throughput.value == pytest.approx(
        max(lv.throughput * f for lv, f in zip(levels, fall, strict=True)), rel=0.08
    )
    assert found.load is not None
    assert found.load.value == pytest.approx(100, abs=21)


def test_users_gathering_before_the_bottleneck_do_not_raise_the_limit() -> None:
    """Two journeys, one of which waits for the full component: in short levels the others run ahead."""
    config = PracticeConfig(
        (Component("front", cpus=8), Component("store", cpus=2)),
        (Route("GET", "/look", (Visit("front", 2),)), Route("GET", "/buy", (Visit("store", 40),))),
    )
    think = Law("exponential", 2.0)
    journeys = [
        TwinJourney("look", 3, (TwinStep("GET /look", think), TwinStep("GET /look", think))),
        TwinJourney("buy", 1, (TwinStep("GET /buy", think),)),
    ]
    real = truth.compute(config, {"GET /look": 6 / 7, "GET /buy": 1 / 7}, 2.0)
    profile, errors, covered = climb(80, 1200, 80, 20), [], []
    for seed in range(4):
        levels = measure(simulate(config, journeys, profile, seed=seed), as_planned(profile).levels())
        found = saturation.find(levels)
        assert isinstance(found, Saturation)
        assert found.load is not None
        covered.append(found.load.low < real.users < found.load.high)
        errors.append(found.load.value / real.users - 1)
    assert sum(covered) >= 3
    assert abs(np.mean(errors)) < 0.02


def test_a_limit_reached_by_a_late_generator_lies_between_the_plateau_and_the_ceiling() -> None:
    config, profile = one_server_system(20, servers=2), climb(20, 180, 20)
    run = simulate(config, visits(1.0), profile, loop=Laborious(0.0047))
    levels = measure(run, as_planned(profile).levels())
    assert max(lv.shift for lv in levels) > saturation.MOST_SHIFT
    demands = [d for r in run.resources if r.kind in HARDWARE and (d := laws.demand(r, levels))]
    found = saturation.find(levels, demands)
    assert isinstance(found, Saturation)
    assert found.status == "reached"
    assert found.throughput is not None
    assert found.throughput.low < 100 < found.throughput.high
    unmetered = saturation.find(levels)
    assert isinstance(unmetered, Saturation)
    assert unmetered.status == "blurred"
    assert unmetered.load is None
    assert unmetered.reached > 80


def test_where_people_arrive_by_rate_the_limit_is_told_in_arrivals_per_second() -> None:
    """Two cores of 20 ms each, two steps a visit: 50 arrivals a second are the most that can be served."""
    config = one_server_system(20, servers=2)
    (journey,) = visits(0.5)
    twice = TwinJourney(journey.name, journey.weight, journey.steps * 2)
    profile = LoadProfile((Segment.climb(8, 64, 8, 40),))
    ordered = planned({"callers": profile}, ["callers"])
    run = simulate(config, [twice], ordered, seed=3)
    levels = measure(run, ordered.levels())
    assert {level.load.kind for level in levels} == {"arrivals"}
    assert [level.load.delivered for level in levels] == pytest.approx([8 * k for k in range(1, 9)], rel=0.2)
    assert levels[-1].users > 5 * levels[-1].load.delivered
    found = saturation.find(levels, [d for r in run.resources if r.kind in HARDWARE and (d := laws.demand(r, levels))])
    assert isinstance(found, Saturation)
    assert found.status == "reached"
    assert found.load is not None
    assert found.ceiling is not None
    assert found.load.value == pytest.approx(50, rel=0.06)
    assert found.ceiling.load.value == pytest.approx(50, rel=0.06)


def few(config: PracticeConfig, *loads: int, metered: bool = True) -> Saturation | Declined:
    profile = LoadProfile(tuple(Segment.hold(users, 30) for users in loads))
    run = simulate(config, visits(1.0), profile, seed=4)
    keys = [r.key for r in run.resources if r.kind in HARDWARE] if metered else []
    return saturation.find(measure(run, as_planned(profile).levels()), metered=keys)


def test_one_level_with_room_tells_how_far_saturation_is_not_reached() -> None:
    found = few(one_server_system(20, servers=2), 40)
    assert isinstance(found, Saturation)
    assert (found.status, found.at_least) == ("not reached", pytest.approx(40, abs=1))
    assert found.next_levels[0] > 40


def test_two_levels_in_proportion_tell_it_without_meters() -> None:
    found = few(one_server_system(20, servers=2), 20, 60, metered=False)
    assert isinstance(found, Saturation)
    assert found.at_least == pytest.approx(60, abs=1)


def test_levels_beyond_saturation_do_not_carry_that_it_was_not_reached() -> None:
    config = one_server_system(20, servers=2)
    assert few(config, 200) == Declined(Reason.TOO_FEW_LEVELS, pytest.approx(200, abs=1))
    assert isinstance(few(config, 200, metered=False), Declined)
    below = few(config, 50, 150, 200)
    assert isinstance(below, Saturation)
    assert below.at_least == pytest.approx(50, abs=1)


def test_the_laws_curves_lie_by_the_levels_and_the_bounds_above() -> None:
    profile = climb(20, 220, 20)
    found = analysis.analyse(
        simulate(one_server_system(20, servers=2), visits(1.0), profile, seed=4), as_planned(profile), (), 0.05
    )
    point = found.saturation
    assert isinstance(point, Saturation)
    assert point.throughput is not None
    drawn = saturation.curves(found.levels, found.demands, point)
    assert drawn.throughput is not None
    assert drawn.response_s is not None
    assert (drawn.throughput <= drawn.bounds * 1.01).all()
    assert drawn.bounds[-1] == pytest.approx(point.throughput.value)
    for level in found.levels:
        at = level.load.delivered
        assert np.interp(at, drawn.loads, drawn.throughput) == pytest.approx(level.throughput, rel=0.07)
        assert np.interp(at, drawn.loads, drawn.response_s) == pytest.approx(level.response_s, rel=0.4, abs=0.01)


def test_what_was_fitted_for_the_point_serves_the_response_curve() -> None:
    run = simulate(one_server_system(20, servers=2), visits(1.0), climb(20, 180, 20))
    measured = measure(run, as_planned(climb(20, 180, 20)).levels())
    demands = [d for r in run.resources if r.kind in HARDWARE and (d := laws.demand(r, measured))]
    fits = saturation.Fits(demands)
    with patch.object(saturation, "_best", wraps=saturation._best) as fitted:
        point = saturation.find(measured, demands, fits=fits)
        curve = saturation.response_curve(measured, demands, fits)
    assert fitted.call_count == 1
    assert point == saturation.find(measured, demands)
    alone = saturation.response_curve(measured, demands)
    assert curve is not None
    assert alone is not None
    assert curve.curve(np.array([30.0, 90.0])).tolist() == alone.curve(np.array([30.0, 90.0])).tolist()
