"""What moves with response time: found at its shift, with the load taken out, and nothing found where nothing is."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from stonekettle.core.moving import FALSE, Load, Move, Moving, least_explained, moving
from stonekettle.core.types import CoreInputError, FloatArray

SECONDS = 600


class Climb:
    """Ten levels of a minute: response time grows with the load, and where ``burdened`` it is three times as long."""

    def __init__(self, seed: int = 1, seconds: int = SECONDS) -> None:
        self.chance = np.random.default_rng(seed)
        self.seconds = seconds
        self.users = 10.0 * (1 + np.arange(seconds) // 60)
        self.begun = self.chance.poisson(self.users).astype(np.float64)
        self.done = self.chance.poisson(self.users).astype(np.float64)
        self.load = Load(self.users, self.begun, self.done)

    def bursts(self, share: float = 0.2, length: int = 15) -> FloatArray:
        """Spells at moments of chance that have nothing to do with the load, 0 or 1 a second."""
        found = np.zeros(self.seconds)
        for start in range(0, self.seconds, round(length / share)):
            at = start + int(self.chance.integers(0, round(length / share) - length))
            found[at : at + length] = 1.0
        return found

    def response(self, burdened: FloatArray | float = 0.0) -> tuple[FloatArray, FloatArray]:
        took = (0.1 + self.users / 300) * (1 + 2 * np.asarray(burdened)) * self.chance.normal(1, 0.05, self.seconds)
        return took * self.done, self.done

    def noise(self, scale: float = 0.05) -> FloatArray:
        return self.chance.normal(0, scale, self.seconds)

    def others(self, count: int = 60) -> dict[str, FloatArray]:
        """Metrics that merely grow with the load, and some that do nothing."""
        kinds = (lambda: self.users * 3, lambda: np.sqrt(self.done), lambda: np.full(self.seconds, 5.0))
        return {f"other {n}": kinds[n % 3]() + self.noise(0.2) for n in range(count)}


def found(climb: Climb, target: tuple[FloatArray, FloatArray], **metrics: FloatArray) -> Moving:
    got = moving(target, {**metrics, **climb.others()}, climb.load)
    assert got is not None
    return got


def the(got: Moving, key: str) -> Move:
    return next(move for move in got.moves if move.key == key)


def test_what_comes_in_spells_stands_above_all_that_grows_with_the_load() -> None:
    climb = Climb()
    spells = climb.bursts()
    got = found(climb, climb.response(spells), disk=0.3 + 0.4 * spells + climb.noise())
    assert [move.key for move in got.named] == ["disk"]
    disk = got.moves[0]
    assert disk.apart.correlation > 0.6
    assert disk.apart.lag_s == 0
    assert disk.apart.false_share < 0.01
    assert disk.swing > 0.5
    # As they are, what grows with the users goes with it just as much.
    grown = the(got, "other 0")
    assert grown.plain.correlation > 0.6
    assert grown.standing != "moves"


@pytest.mark.parametrize("late", [-9, -4, 3, 20])
def test_how_long_before_or_after_is_told(late: int) -> None:
    """A metric that rises 4 s before response time does is followed by it after 4 s."""
    climb = Climb(2)
    spells = climb.bursts()
    got = found(climb, climb.response(spells), disk=np.roll(spells, late) + climb.noise())
    disk = got.moves[0]
    assert disk.key == "disk"
    assert disk.apart.lag_s == pytest.approx(-late, abs=2)


def test_what_falls_while_response_time_rises_has_a_sign() -> None:
    climb = Climb(3)
    spells = climb.bursts()
    got = found(climb, climb.response(spells), hits=0.9 - 0.5 * spells + climb.noise())
    assert got.moves[0].key == "hits"
    assert got.moves[0].apart.correlation < -0.6


def test_where_response_time_is_what_the_load_makes_of_it_nothing_is_named() -> None:
    for seed in range(20):
        climb = Climb(100 + seed)
        got = found(climb, climb.response(), disk=climb.bursts() + climb.noise())
        assert got.named == ()
        assert got.unexplained < 0.3


def test_chance_names_no_more_than_it_may() -> None:
    """Response times with a trouble that no metric tells of, among sixty that remember what they were."""
    named = 0
    for seed in range(30):
        climb = Climb(200 + seed)
        walks = {}
        for number in range(60):
            memory = np.zeros(climb.seconds)
            for second in range(1, climb.seconds):
                memory[second] = 0.9 * memory[second - 1] + climb.chance.normal()
            walks[f"walk {number}"] = memory
        got = moving(climb.response(climb.bursts()), walks, climb.load)
        assert got is not None
        named += bool(got.named)
    # One in twenty is to be expected, of 30 runs more than 5 once in a hundred times.
    assert named <= 5


def test_what_cannot_have_moved_is_told_apart_from_what_nobody_can_tell() -> None:
    climb = Climb(4)
    got = found(climb, climb.response(climb.bursts()), silent=np.full(SECONDS, 0.3), gone=np.full(SECONDS, np.nan))
    assert {"silent", "gone"} <= set(got.still)
    assert sum(move.standing == "does not" for move in got.moves) > 50
    short = Climb(5, 90)
    few = found(short, short.response(short.bursts()), disk=short.noise())
    assert the(few, "disk").standing == "unknown"


def test_what_hardly_varies_is_not_named_however_well_it_fits() -> None:
    climb = Climb(6)
    spells = climb.bursts()
    got = found(climb, climb.response(spells), memory=1000 + 5 * spells + climb.noise(0.5))
    memory = the(got, "memory")
    assert memory.apart.false_share <= FALSE
    assert memory.varies < 0.01
    assert memory.standing == "a little"


def test_a_window_is_looked_at_alone() -> None:
    climb = Climb(7)
    spells = np.where(np.arange(SECONDS) < 300, climb.bursts(0.3), 0.0)
    metrics = {"disk": 0.3 + 0.4 * spells + climb.noise(), **climb.others()}
    first = moving(climb.response(spells), metrics, climb.load, window=(0, 300))
    second = moving(climb.response(spells), metrics, climb.load, window=(300, 600))
    assert first is not None
    assert second is not None
    assert first.blocks == second.blocks == 60
    assert first.moves[0].key == "disk"
    assert second.named == ()


def test_gaps_are_left_out_and_do_not_hide_it() -> None:
    climb = Climb(8)
    spells = climb.bursts()
    disk = 0.3 + 0.4 * spells + climb.noise()
    disk[100:160] = np.nan
    sums, counts = climb.response(spells)
    sums[300:320] = counts[300:320] = 0.0
    got = found(climb, (sums, counts), disk=disk)
    assert got.moves[0].key == "disk"
    assert got.blocks == 116


def test_plain_correlation_without_a_shift_is_spearmans() -> None:
    chance = np.random.default_rng(9)
    n = 50
    series = chance.normal(0, 1, n)
    target = series + chance.normal(0, 1, n)
    steady = np.full(n, 10.0)
    got = moving((target, np.ones(n)), {"a": series}, Load(steady, steady, steady), block_s=1)
    assert got is not None
    plain = got.moves[0].plain
    assert plain.lag_s == 0
    assert plain.correlation == pytest.approx(stats.spearmanr(series, target).statistic, abs=1e-12)


def test_rows_of_ten_seconds_give_the_same_answer() -> None:
    climb = Climb(10, 1200)
    spells = climb.bursts(length=40)
    wide = {
        "disk": (0.3 + 0.4 * spells + climb.noise()).reshape(-1, 10).mean(axis=1),
        "other": climb.noise().reshape(-1, 10).mean(axis=1),
    }
    sums, counts = (series.reshape(-1, 10).sum(axis=1) for series in climb.response(spells))
    load = Load(*(s.reshape(-1, 10).mean(axis=1) for s in (climb.users, climb.begun, climb.done)))
    got = moving((sums, counts), wide, load, block_s=10, every_s=10)
    assert got is not None
    assert [move.key for move in got.named] == ["disk"]


def test_too_little_to_compare_is_no_answer() -> None:
    climb = Climb(11, 50)
    assert moving(climb.response(), {"a": climb.noise()}, climb.load) is None
    still = (np.ones(SECONDS), np.ones(SECONDS))
    whole = Climb(12)
    assert moving(still, {"a": whole.noise()}, whole.load) is None
    assert least_explained([climb.response()], climb.load) is None


def test_the_step_that_the_load_explains_least_is_neither_short_nor_seldom_done() -> None:
    climb = Climb(14)
    spells = climb.bursts()
    burdened, healthy = climb.response(spells), climb.response()
    short = (healthy[0] / 50 * (1 + 4 * np.abs(climb.noise(1.0))), climb.done)
    seldom = tuple(np.where(np.arange(SECONDS) % 20 < 8, series, 0.0) for series in climb.response(2 * spells))
    assert least_explained([healthy, short, burdened, seldom], climb.load) == 2


def test_the_lateness_of_generators_is_taken_out_as_load_is() -> None:
    climb = Climb(15)
    late = climb.bursts() * 5
    sums, counts = climb.response(late / 5)
    load = Load(climb.users, climb.begun, climb.done, late)
    told = {"host steal": late + climb.noise(), **climb.others()}
    got, without = moving((sums, counts), told, load), moving((sums, counts), told, climb.load)
    assert got is not None
    assert without is not None
    assert [move.key for move in without.named] == ["host steal"]
    assert got.unexplained < 0.6 * without.unexplained


def test_what_counts_those_who_wait_is_told_apart() -> None:
    climb = Climb(16)
    spells = climb.bursts()
    sums, counts = climb.response(spells)
    flying = sums + climb.noise(0.3)
    metrics = {"inside": 2 * flying + climb.noise(0.3), "disk": 0.3 + 0.4 * spells + climb.noise(), **climb.others()}
    got = moving((sums, counts), metrics, climb.load, in_flight=flying, counting={"inside"})
    assert got is not None
    assert [move.key for move in got.named] == ["disk"]
    assert the(got, "inside").standing == "the same"


def test_input_that_does_not_fit_is_refused() -> None:
    climb = Climb(13)
    with pytest.raises(CoreInputError, match="600 values"):
        moving(climb.response(), {"a": np.zeros(10)}, climb.load)
    with pytest.raises(CoreInputError, match="block_s: 5"):
        moving(climb.response(), {"a": climb.noise()}, climb.load, block_s=5, every_s=2)
