"""Planned load at any moment, and its levels."""

from __future__ import annotations

import itertools

import numpy as np
import pytest

from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned
from stonekettle.core.types import CoreInputError


def test_a_climb_holds_each_stair() -> None:
    profile = LoadProfile((Segment.climb(10, 50, 20, 30),))
    assert profile.duration_s == 90
    assert [as_planned(profile).amount("everyone", t) for t in (0, 29.9, 30, 60, 89.9, 90)] == [10, 10, 30, 50, 50, 0]


def test_a_climb_that_does_not_divide_stops_below_its_end() -> None:
    profile = LoadProfile((Segment.climb(10, 45, 20, 10),))
    assert profile.peak == 30


def test_a_climb_downwards_is_a_drop_in_steps() -> None:
    profile = LoadProfile((Segment.climb(30, 10, 10, 10),))
    assert [level.users for level in as_planned(profile).levels()] == [30, 20, 10]


def test_a_ramp_is_a_straight_line() -> None:
    profile = LoadProfile((Segment.ramp(0, 100, 50),))
    ordered = as_planned(profile)
    assert [ordered.amount("everyone", t) for t in (0.0, 12.5, 25.0)] == [0, 25, 50]
    assert np.allclose(ordered.mean_users(25), np.arange(25) * 2 + 1)


def test_ramp_levels_are_bins_marked_as_moving() -> None:
    levels = as_planned(LoadProfile((Segment.ramp(0, 80, 80),))).levels()
    assert len(levels) == 8
    assert all(level.moving for level in levels)
    assert [level.users for level in levels] == pytest.approx([5, 15, 25, 35, 45, 55, 65, 75])


def test_neighbours_with_the_same_load_are_one_level() -> None:
    profile = LoadProfile((Segment.climb(10, 30, 10, 10), Segment.hold(30, 20), Segment.hold(5, 10)))
    assert [(level.users, level.duration_s) for level in as_planned(profile).levels()] == [
        (10, 10),
        (20, 10),
        (30, 30),
        (5, 10),
    ]


def test_levels_cover_the_profile_without_gaps() -> None:
    profile = LoadProfile((Segment.ramp(0, 50, 35), Segment.climb(50, 90, 20, 12), Segment.hold(10, 5)))
    levels = as_planned(profile).levels()
    assert levels[0].start_s == 0
    assert levels[-1].end_s == pytest.approx(profile.duration_s)
    assert all(a.end_s == pytest.approx(b.start_s) for a, b in itertools.pairwise(levels))


def test_a_climb_by_nothing_is_refused() -> None:
    with pytest.raises(CoreInputError, match="by must be positive"):
        Segment.climb(1, 10, 0, 10)
