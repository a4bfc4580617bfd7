"""Comparisons: like runs are called alike, a change is found where it is, and nothing is said of what nobody knows."""

from __future__ import annotations

import math
from collections.abc import Sequence
from random import Random

import numpy as np
import pytest
from scipy import stats

from stonekettle.core import analysis, facts
from stonekettle.core.comparing import beside, compare
from stonekettle.core.differences import Comparison
from stonekettle.core.distribution import Law
from stonekettle.core.facts import WHOLE, Fact
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned
from stonekettle.core.pooling import compare_sides
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate

LOOK, PICK = "Buy / GET /look", "Buy / GET /pick"
STEADY = LoadProfile(tuple(Segment.hold(users, 60) for users in (20, 40, 60, 80)))
JOURNEYS = [
    TwinJourney("Buy", 1.0, tuple(TwinStep(f"GET /{name}", Law("exponential", 1.0)) for name in ("look", "pick")))
]


def shop(pick_ms: float = 20.0) -> PracticeConfig:
    """Full at 100 steps/s where both steps take 20 ms."""
    return PracticeConfig(
        (Component("front", cpus=2), Component("shop", cpus=2)),
        (
            Route("GET", "/look", (Visit("front", 4), Visit("shop", 20))),
            Route("GET", "/pick", (Visit("front", 4), Visit("shop", pick_ms))),
        ),
    )


def facts_of(config: PracticeConfig, seed: int, profile: LoadProfile = STEADY) -> Sequence[Fact]:
    run = simulate(config, JOURNEYS, profile, seed=seed)
    return facts.gather(run, analysis.analyse(run, as_planned(profile), (), 0.05))


def made(
    level: int, load: float, blocks: Sequence[float], figure: str = "mean", stolen: Sequence[float] = ()
) -> list[Fact]:
    logs = tuple(math.log(block) for block in blocks)
    told = [
        Fact(level, WHOLE, "load", load),
        Fact(level, LOOK, figure, math.exp(float(np.mean(logs))), n=9, blocks=logs),
    ]
    return [*told, Fact(level, WHOLE, "stolen", 0.0, blocks=tuple(stolen))] if stolen else told


def only(found: Comparison, figure: str = "mean") -> tuple[float, float, str]:
    one = found.of(LOOK, figure)
    assert one is not None
    return one.ratio.value, one.p, one.verdict


def jumping(middle: float, seed: int, n: int = 12) -> list[float]:
    """Blocks of which each second one goes up and the next down, so that none is like the one before."""
    random = Random(seed)
    return [middle * math.exp((-1) ** i * random.uniform(0.02, 0.1)) for i in range(n)]


def test_one_level_is_welchs_test_on_the_logs_of_blocks() -> None:
    first, second = jumping(0.100, 1), jumping(0.106, 2)
    ratio, p, _ = only(compare(made(1, 50, first), made(1, 50, second)))
    exact = stats.ttest_ind(np.log(second), np.log(first), equal_var=False)
    assert p == pytest.approx(exact.pvalue)
    assert ratio == pytest.approx(math.exp(np.mean(np.log(second)) - np.mean(np.log(first))))
    told = compare(made(1, 50, first), made(1, 50, second)).of(LOOK, "mean")
    assert told is not None
    interval = exact.confidence_interval(0.95)
    assert (math.log(told.ratio.low), math.log(told.ratio.high)) == pytest.approx((interval.low, interval.high))


def test_blocks_that_are_like_the_one_before_tell_less() -> None:
    random = np.random.default_rng(3)
    walks = [np.exp(np.cumsum(random.normal(0, 0.03, 12))) for _ in range(2)]
    walk = [float(v) for v in walks[0] / walks[0].mean()]
    alike = compare(made(1, 50, walk), made(1, 50, [1.1 * v for v in walk])).of(LOOK, "mean")
    shuffled = sorted(walk, key=lambda v: random.random())
    jumpy = compare(made(1, 50, shuffled), made(1, 50, [1.1 * v for v in shuffled])).of(LOOK, "mean")
    assert alike is not None
    assert jumpy is not None
    assert alike.detectable > 1.2 * jumpy.detectable


def test_blocks_in_which_the_host_took_processors_away_do_not_count() -> None:
    first, second = jumping(0.1, 1), jumping(0.1, 2)
    slow, stolen = [0.9, 0.8, *second[2:]], [0.2, 0.3, *[0.0] * 10]
    assert only(compare(made(1, 50, first), made(1, 50, slow)))[0] > 1.3
    assert only(compare(made(1, 50, first), made(1, 50, slow, stolen=stolen)))[0] == pytest.approx(1, abs=0.05)


def test_loads_that_differ_are_compared_in_between_and_those_nobody_else_had_are_not() -> None:
    def rising(loads: Sequence[float], by: float = 1.0) -> list[Fact]:
        return [f for i, n in enumerate(loads, 1) for f in made(i, n, jumping(by * n / 1000, i))]

    found = compare(rising([20, 40, 80]), rising([30, 60, 300], 1.5))
    one = found.of(LOOK, "mean")
    assert one is not None
    assert one.by_load.load == (30, 60)
    assert one.ratio.value == pytest.approx(1.5, rel=0.05)
    assert one.verdict == "slower"
    assert compare(rising([20, 40]), rising([100, 200])).differences == ()
    # A load that comes again goes with the same turn of the other run.
    again = compare(rising([20, 80, 20.2]), rising([20, 80, 20.2])).of(LOOK, "mean")
    assert again is not None
    assert len(again.by_load.load) == 3


def test_throughput_tells_nothing_before_the_systems_are_full() -> None:
    first = [*made(1, 20, jumping(9, 1), "throughput"), *made(2, 80, jumping(40, 2), "throughput")]
    second = [*made(1, 20, jumping(7, 3), "throughput"), *made(2, 80, jumping(30, 4), "throughput")]
    assert compare(first, second).of(LOOK, "throughput") is None
    found = compare(first, second, full_from=70).of(LOOK, "throughput")
    assert found is not None
    assert found.by_load.load == (80,)
    assert found.verdict == "slower"


def test_a_difference_too_small_to_matter_is_none() -> None:
    first = [f for n in range(1, 9) for f in made(n, 10 * n, jumping(0.1, n, 40))]
    second = [f for n in range(1, 9) for f in made(n, 10 * n, jumping(0.103, n + 20, 40))]
    ratio, p, verdict = only(compare(first, second))
    assert p < 0.01
    assert (ratio, verdict) == (pytest.approx(1.03, abs=0.01), "no difference")
    assert only(compare(first, second, matters=0.01))[2] == "slower"


def test_like_runs_are_not_called_different() -> None:
    found = [compare(facts_of(shop(), 2 * seed), facts_of(shop(), 2 * seed + 1)) for seed in range(10)]
    assert sum(bool(one.told) for one in found) <= 1
    assert sum(one.verdict == "no difference" for one in found) >= 8


@pytest.mark.parametrize("seed", range(3))
def test_a_dearer_route_is_found_with_its_step_and_its_resource(seed: int) -> None:
    found = compare(facts_of(shop(), seed), facts_of(shop(26), 50 + seed))
    assert found.verdict == "slower"
    told = {(one.subject, one.figure): one.ratio for one in found.told}
    assert told[PICK, "mean"].low < 1.6
    assert told[PICK, "mean"].value > 1.1
    assert told["shop.cpu", "demand"].low < 23 / 20 < told["shop.cpu", "demand"].high
    assert ("front.cpu", "demand") not in told
    back = compare(facts_of(shop(26), 50 + seed), facts_of(shop(), seed))
    assert back.verdict == "faster"
    one, other = found.of(PICK, "mean"), back.of(PICK, "mean")
    assert one is not None
    assert other is not None
    assert one.ratio.value * other.ratio.value == pytest.approx(1)


def plain(level: int, load: float, rate: float, errors: float) -> list[Fact]:
    told = {"load": load, "throughput": rate, "error ratio": errors}
    return [Fact(level, WHOLE, figure, value) for figure, value in told.items()]


def test_errors_are_of_all_steps_and_throughput_of_the_highest_load() -> None:
    first = [*plain(1, 100, 50.0, 0.0), *plain(2, 200, 90.0, 0.1)]
    second = [*plain(1, 100, 50.0, 0.0), *plain(2, 200, 60.0, 0.4), *plain(3, 900, 9.0, 0.9)]
    found = beside(first, second)
    assert found is not None
    assert found.load == 200
    assert found.throughput == (90.0, 60.0)
    # 50 and 100 steps a second, of which ten failed; 50 and 100, of which forty did.
    assert found.errors == pytest.approx((10 / 150, 40 / 150))
    assert beside(first, plain(1, 4000, 1.0, 0.0)) is None


def run_of(shift: float, seed: int, day: float = 0.05) -> list[Fact]:
    """A run in which everything is longer by a share of its own, as on some days."""
    random = np.random.default_rng(seed)
    own = shift * math.exp(random.normal(0, day))
    blocks = [[0.2 * own * math.exp(random.normal(0, 0.03)) for _ in range(12)] for _ in range(3)]
    return [fact for level, load in enumerate((30, 60, 90), 1) for fact in made(level, load, blocks[level - 1])]


def test_one_against_one_is_the_same_whichever_way_it_is_asked() -> None:
    first, second = run_of(1.0, 1), run_of(1.2, 2)
    assert compare_sides([first], [second]) == compare(first, second)


def test_days_that_differ_make_no_difference_between_sides_of_several_runs() -> None:
    """Each pair of runs is apart by what its days were; several a side know how far apart days are."""
    pairs = [compare(run_of(1.0, 2 * n), run_of(1.0, 2 * n + 1)).of(LOOK, "mean") for n in range(60)]
    assert sum(one is not None and one.verdict in ("faster", "slower") for one in pairs) >= 15
    called = 0
    for n in range(60):
        sides = [[run_of(1.0, 1000 + 8 * n + 4 * side + k) for k in range(4)] for side in (0, 1)]
        one = compare_sides(*sides).of(LOOK, "mean")
        assert one is not None
        called += one.p < 0.05
    assert called <= 7


def test_a_change_larger_than_days_are_is_found() -> None:
    one = compare_sides([run_of(1.0, k) for k in range(5)], [run_of(1.4, 9 + k) for k in range(5)]).of(LOOK, "mean")
    assert one is not None
    assert one.verdict == "slower"
    assert one.ratio.low < 1.4 < one.ratio.high
    assert one.by_load.load == (30, 60, 90)


def test_a_single_run_is_judged_by_the_spread_of_the_others() -> None:
    past = [run_of(1.0, k) for k in range(8)]
    assert only(compare_sides(past, [run_of(1.02, 50)]))[1] > 0.05
    ratio, p, verdict = only(compare_sides(past, [run_of(1.5, 51)]))
    assert (p < 0.01, verdict) == (True, "slower")
    assert ratio == pytest.approx(1.5, rel=0.15)
