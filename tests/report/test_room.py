"""The answer to whether there is room for more users, in words that hold."""

from __future__ import annotations

import numpy as np

from stonekettle.core.slowdown import Index, RoomForMore
from stonekettle.core.types import Estimate
from stonekettle.report.notes import room

LOADS = np.array([10.0, 20.0])


def index(*values: float) -> Index:
    return Index("slowdown", (1, 2), LOADS, 0 * LOADS, np.log(values), np.array([0.0, 0.01]))


def test_a_crossing_is_no_room_beyond_it() -> None:
    told = room.note(index(1, 4), RoomForMore("crosses", 20, Estimate(14, 12, 15)), 2, "users")
    assert (told.grade, told.title) == ("saturated", "No room beyond 14 users")
    assert told.text == (
        "From there on steps take over 2 times as long as at light load, 90 % interval 12–15. "
        "At the highest load tried steps take 4.00 times as long."
    )
    first = room.note(index(3, 4), RoomForMore("already", 20, Estimate(10, 8, 11)), 2, "users", in_use=0.6)
    assert first.grade == "broken"
    assert "its busiest resource was 60 % in use" in first.text


def test_room_is_claimed_only_as_far_as_demands_say() -> None:
    found = RoomForMore("not reached", 20, Estimate(38, 31.7, 44), extrapolated=True)
    told = room.note(index(1, 1.2), found, 2, "users")
    assert (told.grade, told.title) == ("holds", "Room for at least 11 more users")
    assert "at 38 users, 90 % interval 32–44, provided that nothing without a meter gives out before." in told.text
    near = RoomForMore("not reached", 20, Estimate(21, 20, 24), extrapolated=True)
    assert room.note(index(1, 1.2), near, 2, "users").title == "Not reached; room for more is not sure"
    far = room.note(index(1, 1.2), RoomForMore("not reached", 20, None, extrapolated=True), 2, "users")
    assert far.title == "Room for at least 20 more users"
    assert "no further is told" in far.text
    none = room.note(index(1, 1.2), RoomForMore("not reached", 20, None), 2, "users", why_no_further="no meter.")
    assert (none.grade, none.title) == ("holds", "Not reached at 20 users, the highest load tried")
    assert none.text.endswith("How many more is not told: no meter.")


def test_a_score_is_told_as_one() -> None:
    score = Index("apdex", (1, 2), LOADS, 0 * LOADS, np.log([0.02, 0.4]), np.array([0.01, 0.01]))
    told = room.note(score, RoomForMore("crosses", 20, Estimate(14, 12, 15)), 0.85, "arrivals", target_s=0.5)
    assert told.title == "No room beyond 14 arrivals/s"
    assert "the Apdex score (T 500 ms) is under 0.85" in told.text
    assert "At the highest load tried it is 0.60." in told.text
