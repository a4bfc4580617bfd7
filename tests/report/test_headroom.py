"""Sentences on the room above an expected peak, each true of what is known."""

from __future__ import annotations

from dataclasses import replace

import pytest

from stonekettle.core.analysis import Analysis, analyse
from stonekettle.core.objectives import BreakingPoint, ComfortLimit
from stonekettle.core.orders import as_planned
from stonekettle.core.types import Declined, Estimate, Reason
from stonekettle.practice.twin import simulate
from stonekettle.report.notes.headroom import note
from tests.conftest import climb, one_server_system, visits

LIMIT = ComfortLimit("found", Estimate(500, 450, 540), 600, 180.0, None, ())


@pytest.fixture(scope="module")
def found() -> Analysis:
    profile = climb(20, 100, 40)
    run = simulate(one_server_system(20, servers=2), visits(1.0), profile, seed=2)
    return replace(analyse(run, as_planned(profile), (), 0.01), comfort=LIMIT)


@pytest.mark.parametrize(
    ("peak", "grade", "title", "text"),
    [
        (
            400,
            "holds",
            "Headroom 25 % over the expected 400 users",
            "+25 %, 90 % interval +12 % to +35 %. At the peak every",
        ),
        (480, "strained", "The expected 480 users are as much as it holds", "is not sure"),
        (1000, "broken", "50 % short of the expected 1 000 users", "At the peak an objective is broken"),
    ],
)
def test_what_is_said_of_a_limit(found: Analysis, peak: float, grade: str, title: str, text: str) -> None:
    told = note(found, peak, "load")
    assert (told.kind, told.grade, told.title) == ("headroom", grade, title)
    assert text in told.text
    assert (told.evidence.at, told.evidence.low, told.evidence.high) == (peak, min(peak, 500), max(peak, 500))


def test_nothing_is_claimed_beyond_what_was_tried(found: Analysis) -> None:
    held = replace(found, comfort=replace(LIMIT, status="holds", load=None))
    assert note(held, 400, "load").title == "Headroom at least 50 % over the expected 400 users"
    beyond = note(held, 900, "load")
    assert (beyond.grade, beyond.title) == ("open", "The expected 900 users were not tried")
    assert "climb past the peak" in beyond.text
    none = note(replace(found, comfort=Declined(Reason.NO_OBJECTIVES)), 400, "throughput")
    assert (none.grade, none.title) == ("open", "Headroom over 400 steps/s: no answer")


def test_how_far_errors_are_from_the_peak_stands_beside_it(found: Analysis) -> None:
    breaking = BreakingPoint(0.01, 3, Estimate(540, 500, 600), 0.05)
    (told,) = note(replace(found, breaking=breaking), 400, "load").details
    assert told == "Errors pass 1.00 % between 500 and 600 users: +25 % to +50 % from the peak."
    (below,) = note(replace(found, breaking=breaking), 800, "load").details
    assert below.endswith("−38 % to −25 % from the peak.")
    (never,) = note(found, 80, "load").details
    assert never == "Errors passed their limit for sure at no load up to 100 users, +25 % from the peak."
    # It is known without a comfort limit too.
    assert note(replace(found, comfort=Declined(Reason.NO_OBJECTIVES)), 80, "load").details == (never,)
    assert note(replace(found, breaking=Declined(Reason.TOO_FEW_LEVELS)), 80, "load").details == ()
