"""What was ordered, from when on, and which stretches of it are levels."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.core.load_profile import LoadProfile, Segment, Target
from stonekettle.core.orders import Order, Ordered, as_planned, planned
from stonekettle.core.types import CoreInputError


def order(number: int, at_s: float, users: float, **more: bool) -> Order:
    return Order(number, at_s, {"everyone": Target.steady(users)}, **more)


SEGMENTS = st.lists(
    st.one_of(
        st.builds(Segment.hold, st.integers(0, 50), st.integers(1, 20)),
        st.builds(Segment.ramp, st.integers(0, 50), st.integers(0, 50), st.integers(1, 20)),
        st.builds(Segment.climb, st.integers(0, 50), st.integers(0, 50), st.integers(1, 20), st.integers(1, 9)),
    ),
    min_size=1,
    max_size=6,
)


def written(segments: list[Segment], t: float) -> float:
    """What segments say at ``t``, as a person would read them."""
    for segment in segments:
        if t < segment.duration_s:
            share = t / segment.duration_s
            if segment.stairs:
                share = int(share * segment.stairs + 1e-9) / max(1, segment.stairs - 1)
            return segment.start + (segment.end - segment.start) * share
        t -= segment.duration_s
    return 0.0


@given(SEGMENTS, st.floats(0, 150))
def test_the_orders_of_a_profile_say_what_the_profile_says(segments: list[Segment], t: float) -> None:
    profile = LoadProfile(tuple(segments))
    ordered = as_planned(profile)
    assert ordered.amount("everyone", t) == pytest.approx(written(segments, t), abs=1e-6)
    assert ordered.duration_s == pytest.approx(profile.duration_s)
    assert ordered.peak_users == pytest.approx(profile.peak)


@given(SEGMENTS)
def test_the_mean_of_a_second_is_the_integral_over_it(segments: list[Segment]) -> None:
    ordered = as_planned(LoadProfile(tuple(segments)))
    seconds = int(ordered.duration_s) + 2
    fine = np.arange(0, seconds, 1 / 200) + 1 / 400
    expected = np.array([ordered.amount("everyone", t) for t in fine]).reshape(seconds, 200).mean(axis=1)
    assert np.allclose(ordered.mean_users(seconds), expected, atol=0.3)
    assert ordered.mean_users(seconds).sum() == pytest.approx(LoadProfile(tuple(segments)).area, rel=1e-6, abs=1e-6)


def test_groups_add_up_and_each_is_told_whole_with_every_order() -> None:
    ordered = planned(
        {
            "a": LoadProfile((Segment.ramp(0, 40, 20), Segment.hold(40, 20))),
            "b": LoadProfile((Segment.hold(5, 10), Segment.hold(15, 40))),
        }
    )
    assert all(set(one.targets) == {"a", "b"} for one in ordered.orders)
    assert [ordered.amount("a", t) for t in (5, 10, 15, 30, 45)] == [10, 20, 30, 40, 0]
    assert ordered.mean_users(50)[[9, 10, 30, 45]].tolist() == pytest.approx([24, 36, 55, 15])
    assert [(level.start_s, level.users, level.moving) for level in ordered.levels()][-2:] == [
        (20, 55, False),
        (40, 15, False),
    ]


def test_arrivals_are_no_users() -> None:
    ordered = planned({"a": LoadProfile((Segment.hold(7, 30),)), "b": LoadProfile((Segment.hold(3, 30),))}, ["b"])
    (level,) = ordered.levels()
    assert (level.users, level.rate) == (7, 3)
    assert ordered.mean_users(2).tolist() == [7, 7]
    assert ordered.mean_arrivals(2).tolist() == [3, 3]
    assert (ordered.peak_users, ordered.peak_rate) == (7, 3)


def test_a_pause_parts_levels_and_users_stay() -> None:
    ordered = Ordered(
        (order(1, 0, 20), order(2, 30, 20, paused=True), order(3, 40, 20), order(4, 70, 0, last=True)),
        frozenset({"callers"}),
    )
    assert [(level.start_s, level.end_s) for level in ordered.levels()] == [(0, 30), (40, 70)]
    assert ordered.amount("everyone", 35) == 20


def test_a_record_without_an_end_goes_on() -> None:
    ordered = Ordered((order(1, 0, 20), Order(2, 10, {"everyone": Target(20, 40, 10)})))
    assert ordered.mean_users(30)[[5, 15, 29]].tolist() == pytest.approx([20, 31, 40])
    assert ordered.duration_s == float("inf")
    assert [level.users for level in ordered.levels()] == [20]


def test_neighbours_with_the_same_load_of_each_group_are_one_level() -> None:
    same = Ordered((order(1, 0, 20), order(2, 15, 20), order(3, 30, 0, last=True)))
    assert [(level.start_s, level.end_s) for level in same.levels()] == [(0, 30)]
    swapped = planned(
        {
            "a": LoadProfile((Segment.hold(10, 20), Segment.hold(30, 20))),
            "b": LoadProfile((Segment.hold(30, 20), Segment.hold(10, 20))),
        }
    )
    assert [(level.users, level.end_s) for level in swapped.levels()] == [(40, 20), (40, 40)]


@pytest.mark.parametrize("orders", [(order(2, 0, 1), order(1, 5, 1)), (order(1, 5, 1), order(2, 4, 1))])
def test_numbers_and_moments_never_fall(orders: tuple[Order, ...]) -> None:
    with pytest.raises(CoreInputError, match="rising numbers"):
        Ordered(orders)


def test_a_line_told_later_is_the_same_line() -> None:
    line = Target(10, 50, 20)
    for passed in (0.0, 5.0, 20.0, 30.0):
        later = line.later(passed)
        assert [later.after(t) for t in (0, 3, 40)] == pytest.approx([line.after(passed + t) for t in (0, 3, 40)])
    assert Target.steady(4).after(-1e-9) == 4
