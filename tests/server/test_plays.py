"""Of several plays of a rehearsal: which is kept, and what is told of the others."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import pytest

from stonekettle.core.analysis import Analysis, analyse
from stonekettle.core.objectives import ComfortLimit, Objective
from stonekettle.core.orders import as_planned
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Declined, Reason
from stonekettle.practice.twin import simulate
from stonekettle.server.runs.plays import middle, words
from tests.conftest import climb, one_server_system, visits

Found = Callable[[float | None, float | None], Analysis]
HOLDS = 1e9


@pytest.fixture(scope="module")
def found() -> Found:
    """What was found with a comfort limit (``HOLDS``: none within the load, None: nothing is said) and a saturation."""
    profile = climb(20, 180, 20)
    run = simulate(one_server_system(20, servers=2), visits(1.0), profile, seed=2)
    whole = analyse(run, as_planned(profile), (Objective(0, "response", 0.2),), 0.01)
    comfort, point = whole.comfort, whole.saturation
    assert isinstance(comfort, ComfortLimit)
    assert comfort.load is not None
    assert isinstance(point, Saturation)
    assert point.load is not None
    at, where = comfort.load, point.load

    def make(limit: float | None, load: float | None) -> Analysis:
        told: ComfortLimit | Declined = Declined(Reason.BLURRED)
        if limit == HOLDS:
            told = replace(comfort, status="holds", load=None)
        elif limit is not None:
            told = replace(comfort, load=replace(at, value=limit))
        place = Declined(Reason.LAWS) if load is None else replace(point, load=replace(where, value=load))
        return replace(whole, comfort=told, saturation=place)

    return make


def test_the_middle_is_by_the_comfort_limit_then_by_saturation(found: Found) -> None:
    assert middle([found(370, 390), found(352, 385), found(361, 380)]) == 2
    assert middle([found(HOLDS, 390), found(352, 385), found(361, 380)]) == 2
    assert middle([found(HOLDS, 390), found(HOLDS, None), found(HOLDS, 380)]) == 0
    assert middle([found(None, 390), found(352, 385), found(361, 380)]) == 1
    assert middle([found(352, 385)]) == 0


def test_what_all_of_them_found_is_told_with_how_far_apart_it_lies(found: Found) -> None:
    begun = "It is the middle one of 3 plays, each with its own chance"
    assert words([found(370, 390), found(352, 385), found(361, 380.4)]) == (
        f"{begun}: they found comfort limits from 352 to 370 users and saturation from 380 to 390 users."
    )
    assert words([found(HOLDS, 390), found(352, 385), found(361, 380)]) == (
        f"{begun}: they found saturation from 380 to 390 users."
    )
    assert words([found(HOLDS, None), found(352, 385), found(None, 380)]) == f"{begun}."
    assert words([found(352, 385)]) == ""
