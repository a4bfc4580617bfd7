"""Names in a plan's text for what is described elsewhere."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.plan.checking import parse
from stonekettle.plan.references import mentions, renamed

TEXT = """# Who runs the mill? système: Mill
name: Mill   # not the system
system: Mill   # the one at the weir
feeds:
  - {feed: Sacks, take: in order}   # feed: Sacks
journeys:
  - journey: Buy flour
    weight: 3
  - {journey: 'Ask "why"', weight: 1}
  - name: Look
    steps: [{name: journey, request: GET /}]
groups:
  - name: all
    mix: {Buy flour: 3, Look: 1}
    users: [{hold: {users: 5, for: 10 s}}]
"""


def test_names_are_found_where_they_stand_for_something_else() -> None:
    assert [m.key for m in mentions(TEXT)] == [
        ("system", "Mill"),
        ("feed", "Sacks"),
        ("journey", "Buy flour"),
        ("journey", 'Ask "why"'),
        ("journey", "Buy flour"),
    ]
    assert all(m.name in (TEXT[m.start : m.end], TEXT[m.start : m.end].strip("'")) for m in mentions(TEXT))


def test_a_new_name_changes_nothing_around_it() -> None:
    told = renamed(TEXT, {("system", "Mill"): "Old mill", ("journey", "Buy flour"): "Buy: flour, fine"})
    assert told == TEXT.replace("system: Mill ", "system: Old mill ").replace("Buy flour", '"Buy: flour, fine"')
    assert renamed(TEXT, {}) is TEXT
    assert renamed(TEXT, {("system", "Sacks"): "x"}) == TEXT


@pytest.mark.parametrize(
    "text", ['{"name": "n", "system": "Mill"}', "\ufeffname: n\nsystem: Mill\n", "系: 1\r\nsystem: Mill\r\n"]
)
def test_json_byte_order_marks_and_other_scripts_are_no_hindrance(text: str) -> None:
    told = renamed(text, {("system", "Mill"): "Zürich 🏔"})
    assert told == text.replace('"Mill"', "Mill").replace("Mill", '"Zürich 🏔"')


def test_a_text_that_is_no_plan_names_nothing() -> None:
    for text in (
        "",
        "[]",
        "3",
        "system: {name: x}",
        "journeys: 3",
        "groups: [{mix: []}]",
        "system: |\n  Mill\n",
        "[[",
        "system: \0",
    ):
        assert mentions(text) == ()


@given(st.text(st.characters(blacklist_categories=("Cs", "Cc")), min_size=1, max_size=20))
def test_any_name_is_read_back_as_it_was_given(name: str) -> None:
    told = renamed(TEXT, {("system", "Mill"): name, ("journey", "Buy flour"): name, ("feed", "Sacks"): name})
    data = parse(told)
    assert isinstance(data, dict)
    assert (data["system"], data["feeds"][0]["feed"], data["journeys"][0]["journey"]) == (name, name, name)
    assert name in data["groups"][0]["mix"]
