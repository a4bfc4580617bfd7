"""The best estimate of the throughput limit: each piece of evidence where the others know nothing."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core import laws, limit, saturation
from stonekettle.core.levels import Level, measure
from stonekettle.core.limit import Limit
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned, planned
from stonekettle.core.queueing import Station, throughput_at
from stonekettle.core.run_data import HARDWARE
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import FloatArray
from stonekettle.practice import truth
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import simulate
from tests.conftest import ROUTE, climb, one_server_system, visits

TWO = PracticeConfig(
    (Component("front", cpus=1), Component("store", cpus=1)),
    (Route("GET", "/", (Visit("front", 50), Visit("store", 50))),),
)


def levels_of(config: PracticeConfig, profile: LoadProfile, think_s: float, seed: int) -> tuple[Level, ...]:
    run = simulate(config, visits(think_s), profile, seed=seed)
    return measure(run, as_planned(profile).levels())


def best(config: PracticeConfig, profile: LoadProfile, think_s: float = 1.0, *, metered: bool = True) -> list[Limit]:
    found = []
    for seed in range(8):
        run = simulate(config, visits(think_s), profile, seed=seed)
        levels = measure(run, as_planned(profile).levels())
        demands = [d for r in run.resources if metered and r.kind in HARDWARE and (d := laws.demand(r, levels))]
        rate = np.array([lv.throughput for lv in levels])
        se = np.array([lv.throughput_se for lv in levels])
        found.append(limit.best(levels, rate, se, demands, float(rate.max())))
    return found


def off(found: list[Limit], real: float) -> list[float]:
    return [one.throughput.value / real - 1 for one in found]


def test_an_exact_curve_without_noise_is_no_plateau_where_it_has_none() -> None:
    """Two stations of 50 ms and ten users do three quarters of the 20 steps/s that are the limit: there is no
    plateau."""
    stations = [Station.servers("front", 0.05, 1), Station.servers("store", 0.05, 1)]
    users = np.arange(1.0, 11.0)
    exact = throughput_at(stations, 0.4, users)
    assert 0.74 < exact[-1] / 20 < 0.80
    levels = []
    for measured, n, x in zip(levels_of(TWO, climb(1, 10, 1, 90), 0.4, 1), users, exact, strict=True):
        levels.append(
            replace(
                measured,
                throughput=float(x),
                throughput_se=0.001 * float(x),
                completion_rate=float(x),
                response_s=float(n / x - 0.4),
                response_se_s=0.0005,
                thinking=0.4 * float(x),
                utilisation={"front.cpu": float(x) / 20, "store.cpu": float(x) / 20},
            )
        )
    run = simulate(TWO, visits(0.4), climb(1, 10, 1, 40))
    demands = [d for r in run.resources if r.kind in HARDWARE and (d := laws.demand(r, levels))]
    found = saturation.find(levels, demands)
    assert isinstance(found, Saturation)
    told = limit.best(levels, exact, 0.001 * exact, demands, float(exact[-1])).throughput
    assert told.value == pytest.approx(20, rel=0.01)
    if found.throughput is not None:
        assert found.throughput.value == pytest.approx(20, rel=0.02)


def test_a_small_system_that_bends_slowly_is_estimated_by_its_demands() -> None:
    """Up to ten users: at the top a tenth and more below the limit, which is told within a few percent."""
    found = best(TWO, climb(1, 10, 1, 40), 0.4)
    assert {one.resource for one in found} <= {"front.cpu", "store.cpu"}
    assert float(np.median(np.abs(off(found, 20)))) < 0.03
    assert sum(one.throughput.low < 20 < one.throughput.high for one in found) >= 6


def test_levels_beyond_an_unseen_limit_tell_it_alone() -> None:
    config = one_server_system(20, servers=16, pool=4)
    found = best(config, climb(40, 440, 40))
    assert all(one.resource is None for one in found)
    assert float(np.median(np.abs(off(found, 200)))) < 0.01
    assert sum(one.throughput.low < 200 < one.throughput.high for one in found) >= 6


def test_plateau_and_utilisation_law_are_weighed_together() -> None:
    config = one_server_system(20, servers=2)
    both, alone = best(config, climb(20, 180, 20)), best(config, climb(20, 180, 20), metered=False)
    assert all(0.1 < one.plateau_share < 0.95 for one in both)
    assert all(one.plateau_share == 1.0 for one in alone)
    assert math.sqrt(np.mean(np.square(off(both, 100)))) < math.sqrt(np.mean(np.square(off(alone, 100))))


def test_where_they_disagree_the_interval_spans_both() -> None:
    """Servers that stand still for a twentieth of the time: the law, which never sees it, tells five percent more."""
    config = one_server_system(20, servers=2, pause_every_s=20, pause_s=1.0)
    found = best(config, climb(20, 180, 20, 40))
    assert sum(one.throughput.low < 95 < one.throughput.high for one in found) >= 6


@pytest.mark.parametrize("seed", range(4))
def test_arrivals_far_from_saturation_leave_the_limit_open(seed: int) -> None:
    """Where people arrive and nobody waits, no level tells anything of the limit."""
    ordered = planned({"callers": LoadProfile((Segment.climb(8, 48, 8, 30),))}, ["callers"])
    run = simulate(one_server_system(5, servers=8, metered=False), visits(0.5), ordered, seed=seed)
    found = saturation.find(measure(run, ordered.levels()))
    assert isinstance(found, Saturation)
    assert found.status == "not reached"


def test_light_load_is_told_without_the_waiting_there_is_at_the_lowest_level() -> None:
    """One server of 100 ms: at half of what it can do, a step takes 160 ms already."""
    config = one_server_system(100)
    found = best(config, climb(5, 20, 1, 60))
    assert float(np.mean([one.response_s for one in found])) == pytest.approx(0.100, abs=0.012)


def test_the_truth_of_a_small_system_lies_in_the_interval_of_its_saturation_point() -> None:
    real = truth.compute(TWO, {ROUTE: 1.0}, 0.4).users
    covered = []
    for seed in range(8):
        levels = levels_of(TWO, climb(2, 20, 2, 40), 0.4, seed)
        run = simulate(TWO, visits(0.4), climb(2, 20, 2, 40), seed=seed)
        found = saturation.find(
            levels, [d for r in run.resources if r.kind in HARDWARE and (d := laws.demand(r, levels))]
        )
        assert isinstance(found, Saturation)
        if found.load is not None:
            covered.append(found.load.low < real < found.load.high)
    assert len(covered) >= 5
    assert covered.count(False) <= 1


def test_a_table_of_the_curve_is_the_curve() -> None:
    """Of a network with a sharp bend, at loads between those of the table too; it is worked once."""
    stations = [Station.servers(str(k), 0.01 / (k + 1), 1) for k in range(5)]
    asked: list[int] = []

    def curve(loads: FloatArray) -> FloatArray:
        asked.append(loads.size)
        return loads / throughput_at(stations, 1.0, loads) - 1.0

    response = limit.Response(curve, 0.02, 1.0)
    tabled = response.tabled(10.0, 600.0)
    loads = np.linspace(10.0, 600.0, 77)
    assert tabled.curve(loads) == pytest.approx(curve(loads), rel=1e-3)
    asked.clear()
    tabled.curve(loads)
    assert asked == []
