"""The room above an expected peak, by hand-made limits and levels."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from stonekettle.core.headroom import headroom
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.types import CoreInputError, Estimate

LIMIT = ComfortLimit("found", Estimate(500, 450, 540), 600, 180.0, None, ())


class At:
    """A level as far as room is concerned."""

    def __init__(self, load: float, throughput: float) -> None:
        self.load = type("Load", (), {"delivered": load})()
        self.throughput = throughput


LEVELS: Any = [At(200, 80), At(400, 160), At(500, 180), At(600, 170)]


@pytest.mark.parametrize(
    ("peak", "standing", "room"),
    [
        (400, "enough", (0.25, 0.125, 0.35)),
        (480, "close", (500 / 480 - 1, 450 / 480 - 1, 540 / 480 - 1)),
        (1000, "short", (-0.5, -0.55, -0.46)),
    ],
)
def test_the_interval_is_that_of_the_limit(peak: float, standing: str, room: tuple[float, ...]) -> None:
    found = headroom(LIMIT, LEVELS, peak, "load")
    assert found.standing == standing
    assert (found.room.value, found.room.low, found.room.high) == pytest.approx(room)
    assert found.load == peak


def test_steps_per_second_are_held_against_what_was_done_at_the_limit() -> None:
    found = headroom(LIMIT, LEVELS, 120, "throughput")
    assert found.room.value == pytest.approx(180 / 120 - 1)
    assert found.room.low == pytest.approx(170 / 120 - 1)
    # Beyond the limit it does no more than it did, though throughput fell there.
    assert found.room.high == pytest.approx(180 / 120 - 1)
    assert found.load == pytest.approx(300)
    beyond = headroom(LIMIT, LEVELS, 250, "throughput")
    assert beyond.standing == "short"
    assert beyond.load is None


def test_without_a_limit_the_highest_load_tried_is_what_is_known() -> None:
    held = replace(LIMIT, status="holds", load=None)
    assert headroom(held, LEVELS, 400, "load").standing == "at least"
    assert headroom(held, LEVELS, 400, "load").room.value == pytest.approx(0.5)
    assert headroom(held, LEVELS, 601, "load").standing == "not tried"


def test_broken_at_the_lowest_level_the_limit_may_lie_anywhere_below() -> None:
    below = replace(LIMIT, status="below", load=Estimate(200, 0, 220))
    assert headroom(below, LEVELS, 300, "load").standing == "short"
    assert headroom(below, LEVELS, 210, "load").standing == "close"


def test_a_peak_is_above_nothing() -> None:
    for wrong in (0.0, -5.0, float("nan")):
        with pytest.raises(CoreInputError, match="peak"):
            headroom(LIMIT, LEVELS, wrong, "load")
