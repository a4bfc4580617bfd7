"""Feeds: rows written, made to order, or kept in a file."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.plan import advice, document
from stonekettle.plan.checking import plain, validated
from stonekettle.plan.feed import Feed, FeedDraft, Rows, rows_of
from stonekettle.plan.problems import PlanError
from stonekettle.plan.recipe import LANGUAGES, Recipe

SEQUENCE = {"name": "account", "sequence": {"from": 98, "digits": 4, "prefix": "A-"}}
KINDS = [
    SEQUENCE,
    {"name": "zone", "one_of": ["A", "B", "C"]},
    {"name": "person", "person": {"part": "full"}},
    {"name": "amount", "number": {"law": "lognormal", "mean": 20, "deviation": 5, "decimals": 2}},
]


def recipe(*columns: dict[str, Any], rows: int = 10, seed: int = 1) -> Recipe:
    return validated(Recipe, {"rows": rows, "seed": seed, "columns": list(columns)})


def refused(*columns: dict[str, Any], rows: int = 10) -> str:
    with pytest.raises(PlanError) as caught:
        recipe(*columns, rows=rows)
    return str(caught.value)


def numbers(count: int = 20_000, **law: Any) -> np.ndarray:
    made = recipe({"name": "x", "number": law}, rows=count)
    return np.array([float(value) for (value,) in made.rows_made()])


def test_a_sequence_counts_with_its_prefix_and_digits() -> None:
    assert [row[0] for row in recipe(SEQUENCE, rows=3).rows_made()] == ["A-0098", "A-0099", "A-0100"]
    down = {"name": "n", "sequence": {"from": 5, "by": -5}}
    assert [row[0] for row in recipe(down, rows=3).rows_made()] == ["5", "0", "-5"]


def test_the_same_seed_makes_the_same_rows_and_another_others() -> None:
    made = recipe(*KINDS).rows_made()
    assert made == recipe(*KINDS).rows_made()
    assert made != recipe(*KINDS, seed=2).rows_made()


def test_columns_and_rows_can_be_added_without_changing_those_there_are() -> None:
    made = recipe(*KINDS, rows=50).rows_made()
    assert recipe(*KINDS, rows=5_000).rows_made()[:50] == made
    assert recipe(*KINDS, rows=5_000).rows_made(50) == made
    assert recipe(*KINDS, rows=5_000).rows_made(10, 25) == made[25:35]
    pieces = list(recipe(*KINDS, rows=50).pieces_made(20))
    assert [len(piece) for piece in pieces] == [20, 20, 10]
    assert [row for piece in pieces for row in piece] == made
    assert [row[1:] for row in recipe({"name": "new", "person": {}}, *KINDS, rows=50).rows_made()] == made


def test_a_pick_takes_every_value_about_as_often() -> None:
    picked = [row[0] for row in recipe(KINDS[1], rows=9_000).rows_made()]
    assert {zone: round(picked.count(zone) / 9_000, 1) for zone in "ABC"} == {"A": 0.3, "B": 0.3, "C": 0.3}


@pytest.mark.parametrize("language", LANGUAGES)
def test_people_have_given_and_family_names(language: str) -> None:
    columns = [{"name": part, "person": {"part": part, "language": language}} for part in ("full", "given", "family")]
    made = recipe(*columns, rows=300).rows_made()
    assert all(all(row) and " " in row[0] for row in made)
    assert len({row[0] for row in made}) > 100


def test_random_numbers_follow_their_law() -> None:
    uniform = numbers(law="uniform", **{"from": 1, "to": 6})
    assert sorted(set(uniform)) == [1, 2, 3, 4, 5, 6]
    normal = numbers(law="normal", mean=20, deviation=5, decimals=3)
    assert (normal.mean(), normal.std()) == (pytest.approx(20, abs=0.2), pytest.approx(5, abs=0.2))
    exponential = numbers(law="exponential", mean=8, decimals=3)
    assert (exponential.mean(), exponential.std()) == (pytest.approx(8, rel=0.05), pytest.approx(8, rel=0.05))
    lognormal = numbers(law="lognormal", mean=20, deviation=5, decimals=3)
    assert (lognormal.mean(), lognormal.std()) == (pytest.approx(20, abs=0.2), pytest.approx(5, abs=0.3))
    assert lognormal.min() > 0


def test_decimals_are_written_out() -> None:
    made = recipe({"name": "x", "number": {"from": -1, "to": 1, "decimals": 2}}, rows=500).rows_made()
    assert all(re.fullmatch(r"-?\d\.\d\d", value) for (value,) in made)
    assert not any(value == "-0.00" for (value,) in made)


@pytest.mark.parametrize(
    ("number", "says"),
    [
        ({"from": 1}, "uniform numbers need their bounds"),
        ({"from": 5, "to": 1}, "end before they begin"),
        ({"from": 1.2, "to": 1.8}, "no whole number between the bounds"),
        ({"law": "normal", "mean": 4}, "normal numbers need a deviation"),
        ({"law": "exponential", "mean": 4, "deviation": 2}, "deviation of exponential numbers is their mean"),
        ({"law": "lognormal", "mean": -4, "deviation": 2}, "above zero"),
        ({"law": "normal", "from": 1, "to": 4}, "need a mean, and no bounds"),
    ],
)
def test_numbers_that_cannot_be_are_refused(number: dict[str, Any], says: str) -> None:
    assert says in refused({"name": "x", "number": number})


def test_recipes_that_cannot_be_are_refused() -> None:
    assert "exactly one of sequence" in refused({"name": "x"})
    assert "same name" in refused(SEQUENCE, SEQUENCE)
    assert "five million" in refused(*({"name": f"c{i}", "sequence": {}} for i in range(6)), rows=1_000_000)
    assert "columns[0].name" in refused({"name": "not a name", "sequence": {}})


@given(
    st.lists(
        st.lists(st.text(st.characters(codec="utf-8", exclude_characters="\0\r")), min_size=2, max_size=2), min_size=1
    )
)
def test_rows_survive_their_text(values: list[list[str]]) -> None:
    rows = Rows(("a", "b"), [tuple(row) for row in values])
    assert rows_of(rows.text) == rows


def test_a_feed_says_how_many_rows_it_has_before_they_are_at_hand() -> None:
    rows = Rows(("stop",), [("Quay",), ("Mill",)])
    kept = Feed.model_validate({"name": "stops", "file": {"digest": "0" * 64, "columns": ["stop"], "rows": 2}})
    assert (len(kept), kept.columns) == (2, ("stop",))
    with pytest.raises(LookupError, match="not at hand"):
        _ = kept.rows
    found = kept.with_text(rows.text)
    assert found.rows.row(3) == {"stop": "Mill"}
    assert "Mill" not in str(plain(found))


def test_a_feed_has_its_rows_from_one_place() -> None:
    with pytest.raises(PlanError, match="exactly one of csv, make and file"):
        validated(Feed, {"name": "stops"})
    with pytest.raises(PlanError, match="from one place"):
        validated(FeedDraft, {"name": "stops", "csv": "a\n1\n", "make": {"rows": 1, "columns": [SEQUENCE]}})
    assert validated(FeedDraft, {"name": "stops"}).feed is None


def test_a_plan_finds_the_feeds_it_names_and_those_its_journeys_bring(plan_text: Any) -> None:
    raw = plan_document(plan_text)
    journey = raw["journeys"][0]
    kept = {**journey, "feeds": ["Stops", "Zones"], "system": "Shop"}
    stops = {"name": "Stops", "csv": "stop\nQuay\nMill\n", "notes": "two"}
    known = {
        ("journey", "Walk"): kept,
        ("feed", "Stops"): stops,
        ("feed", "Zones"): {**stops, "name": "Zones", "csv": "zone\nA\nB\n"},
    }
    named = {**raw, "journeys": [{"journey": "Walk"}], "feeds": [{"feed": "Stops", "take": "one per user"}]}

    def find(kind: str, name: str) -> Any:
        return known.get((kind, name))

    plan = document.from_document(named, find)
    assert [(feed.name, feed.take) for feed in plan.feeds] == [("Stops", "one per user"), ("Zones", "in order")]
    known |= {("journey", "Empty"): {**kept, "feeds": ["None yet"]}, ("feed", "None yet"): {"name": "None yet"}}
    for changed, says in (
        ({"feeds": [{"feed": "Gates"}]}, "feeds[0].feed: there is no feed named 'Gates'"),
        ({"journeys": [{"journey": "Empty"}]}, "journeys[0].journey: the feed 'None yet' has no rows yet"),
    ):
        with pytest.raises(PlanError, match=re.escape(says)):
            document.from_document({**named, **changed}, find)


def test_a_plan_gets_the_rows_of_its_files(plan_text: Any) -> None:
    file = {"name": "stops", "file": {"digest": "a" * 64, "columns": ["stop"], "rows": 1}}
    plan = document.from_document({**plan_document(plan_text), "feeds": [file]})
    assert document.with_files(plan, lambda digest: "stop\nQuay\n").feeds[0].rows.row(0) == {"stop": "Quay"}
    with pytest.raises(PlanError, match="the rows of 'stops' are not kept here"):
        document.with_files(plan, lambda digest: None)
    assert any("has one row: every user sends the same" in line for line in advice.of(plan))


@pytest.mark.parametrize(
    ("rows", "rules", "says"),
    [
        (1, {}, "has one row: every user sends the same"),
        (4, {"take": "one per user"}, "has 4 rows for 10 users: several users share a row"),
        (4, {"take": "one per user", "end": "retire"}, "has 4 rows for 10 users: users retire once it is used up"),
        (900, {"end": "retire"}, "has 900 rows, and up to 1200 journeys may begin: users retire"),
        (1200, {"end": "retire"}, None),
        (4, {}, None),
        (4, {"take": "at random", "end": "retire"}, None),
        (10, {"take": "one per user"}, None),
    ],
)
def test_too_few_rows_for_the_load_are_told(plan_text: Any, rows: int, rules: dict[str, str], says: str | None) -> None:
    raw = plan_document(plan_text)
    raw["journeys"] = [{"name": "v", "steps": [{"name": "s", "request": "GET /", "think": "500 ms"}]}]
    raw["load"] = [{"hold": {"users": 10, "for": "60 s"}}]
    raw["feeds"] = [{"name": "riders", "make": {"rows": rows, "columns": [SEQUENCE]}, **rules}]
    raw["objectives"] = []
    told = [line for line in advice.of(document.from_document(raw)) if "'riders'" in line]
    assert len(told) == (says is not None)
    assert says is None or says in told[0]


def plan_document(plan_text: Any) -> dict[str, Any]:
    from stonekettle.plan.checking import parse

    raw: Any = parse(plan_text())
    return raw
