"""How soon many are ready: closed forms, who is late, and what one storm tells beside another."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.core.readiness import compared, curve, readiness
from stonekettle.report import readiness as words


def test_of_a_hundred_that_come_one_a_second_the_marks_are_their_places() -> None:
    found = readiness(np.arange(1.0, 101.0))
    assert found.after_s == {50: 50.0, 90: 90.0, 99: 99.0, 100: 100.0}
    assert (found.asked, found.ready, found.stragglers) == (100, 100, ())
    assert found.rate == pytest.approx(1.0)


@given(st.lists(st.one_of(st.floats(0, 1e4), st.just(math.nan)), min_size=1, max_size=60))
def test_as_many_as_a_mark_says_were_ready_then_and_fewer_before(times: list[float]) -> None:
    told = np.array(times)
    found = readiness(told)
    for share, at in found.after_s.items():
        needed = math.ceil(share * told.size / 100)
        if at is None:
            assert np.isfinite(told).sum() < needed
        else:
            assert (told <= at).sum() >= needed > (told < at).sum()
    points = curve(told)
    assert len(points) == found.ready
    assert [ready for _, ready in points] == list(range(1, found.ready + 1))


def test_those_that_never_came_are_named_before_those_that_came_late() -> None:
    told = np.concatenate([np.linspace(5, 7, 20), [60.0, 90.0, math.nan]])
    found = readiness(told)
    assert found.stragglers == (22, 21, 20)
    assert found.after_s[100] is None
    assert words.sentence(found, "within 2 min") == (
        "22 of 23 were ready within 2 min: half of them after 6.16 s, nine of ten after 60.0 s. 2 stragglers "
        "came much later than the others. Between the first tenth and the last 0.336 came a second."
    )
    # Of a few none is called late.
    assert readiness(np.array([1.0, 1.1, 50.0])).stragglers == ()


def test_a_long_curve_keeps_its_ends() -> None:
    points = curve(np.arange(5_000.0))
    assert len(points) <= 300
    assert (points[0], points[-1]) == ((0.0, 1), (4999.0, 5_000))


def test_a_storm_twice_as_slow_is_told_so_and_one_alike_is_not() -> None:
    random = np.random.default_rng(4)
    first = random.lognormal(2, 0.3, 400)
    twice = compared(first, 2 * random.lognormal(2, 0.3, 400))
    assert all(one.low <= 2 <= one.high for share, one in twice.items() if share < 99)
    assert words.against(twice, "run 7").startswith("90 % were ready 9") or "later than in run 7" in words.against(
        twice, "run 7"
    )
    alike = compared(first, random.lognormal(2, 0.3, 400))
    assert alike[50].low < 1 < alike[50].high
    assert "as soon as in run 7" in words.against(alike, "run 7")


def test_where_too_few_came_nothing_is_compared() -> None:
    few = np.array([1.0, 2.0, *[math.nan] * 8])
    assert compared(few, np.arange(1.0, 11.0)) == {}
    assert words.against({}, "run 3") == "Too few were ready for it to be held against run 3."


def test_none_at_all_is_refused_and_none_ready_is_told() -> None:
    with pytest.raises(ValueError, match="there are no instances"):
        readiness(np.array([]))
    found = readiness(np.full(3, math.nan))
    assert words.sentence(found, "") == "None is ready yet."
    assert words.sentence(found, "by the end of the run") == "None was ready by the end of the run."
