"""Suspects in words."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import get_args

import pytest

from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.suspects import Claim, Kind, Point, Seen, Suspect
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.report import suspects
from tests.conftest import climb
from tests.report.test_explain import analysed

TWO = PracticeConfig(
    (Component("front", cpus=2), Component("store", cpus=2)),
    (Route("GET", "/", (Visit("front", 8), Visit("store", 20))),),
)


@pytest.fixture(scope="module")
def found() -> Analysis:
    return analysed(TWO, climb(20, 180, 20))


def test_the_first_is_told_with_its_figures_and_what_comes_next(found: Analysis) -> None:
    told = suspects.told(found, Seen({"store": 0.9}, 0.02, ["cache"]))
    first = told.lines[0]
    assert (first.title, first.named, first.row) == ("`store` CPU", True, "resource:store.cpu")
    assert "90 % of a response is spent in its component, as responses say." in first.speaks_for
    assert any(re.match(r"The first to fill: from \d+ users on", text) for text in first.speaks_for)
    assert first.speaks_against == ()
    assert told.decide == ""
    # The front lets 250 through; with a second of thinking and 28 ms of service that is some 257 users.
    users = re.search(r"Once that is lifted, `front` CPU is next, .* with about (\d+) users", told.next)
    assert users is not None
    assert int(users[1]) == pytest.approx(257, rel=0.1)
    assert "Without a meter: `cache`." in next(one for one in told.lines if one.kind == "unmetered").speaks_for


def test_without_a_limit_it_says_so() -> None:
    told = suspects.told(analysed(TWO, climb(5, 40, 5)), Seen())
    assert told.decide == suspects.NO_LIMIT
    assert told.lines[0].title == "`store` CPU"


def test_every_claim_has_words(found: Analysis) -> None:
    for claim in get_args(Claim):
        text = suspects._words(Point(claim, 1.0, (0.5, 2.0)), "users", Seen(unmetered=["a"]))
        assert text.endswith(".")
        assert "{" not in text
    words = suspects._words(Point("filled later", -1.0, (30.0, 20.0)), "arrivals", Seen())
    assert "arrivals/s" in words


@pytest.mark.parametrize(
    ("kind", "part"),
    [
        ("generator", "more generators"),
        ("network", "nearer to the system"),
        ("unmetered", "Meter `cache`, or let servers tell"),
        ("contention", "waits for locks"),
        ("pool", "larger by half"),
        ("hardware", "alone more room"),
    ],
)
def test_what_would_decide_between_two_fits_them(kind: Kind, part: str) -> None:
    points = (Point("full", 3.0, (1.0,)),)
    key = "ledger.connections" if kind in ("pool", "hardware") else ""
    pair = Suspect("hardware", "store.cpu", points, True), Suspect(kind, key, points)
    told = suspects._decide(pair, Seen(unmetered=["cache"]))
    assert told.startswith("What speaks for `store` CPU and for ")
    assert part in told


def test_arrivals_have_no_users_to_tell_the_next_limit_in(found: Analysis) -> None:
    assert isinstance(found.limiting, LimitingResource)
    assert "users" not in suspects._next(replace(found, load_kind="arrivals"))
    alone = replace(found, limiting=replace(found.limiting, next_in_line=None))
    assert suspects._next(alone) == ""
