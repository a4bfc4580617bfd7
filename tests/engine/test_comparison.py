"""Recorded and received answers, side by side."""

from __future__ import annotations

import json
import time
from random import Random

from hypothesis import given
from hypothesis import strategies as st

from stonekettle.engine.comparison import MAX_LINES, Comparison, Span, compare

PAGE = "<html><title>Welcome</title><h1>Welcome, r-0001</h1>{}<p>Three trams at Quay Gate</p></html>"


def compared(recorded: str, received: str, kind: str = "text/html") -> Comparison:
    return compare((200, kind, recorded), (200, kind, received))


def lines(comparison: Comparison, side: str) -> list[str]:
    return ["".join(span.text for span in getattr(row, side)) for row in comparison.rows if getattr(row, side)]


def test_the_same_answer_has_no_rows() -> None:
    assert compared(PAGE.format(""), PAGE.format("\n ")) == Comparison(True, (), (), False)
    assert compared(json.dumps({"a": 1, "b": 2}), '{"a":1,  "b":2}').same


def test_words_that_differ_are_marked_in_their_lines() -> None:
    found = compared(PAGE.format(""), PAGE.format("").replace("Three", "Two"))
    (changed,) = [row for row in found.rows if row.kind == "changed"]
    assert changed.recorded == (
        Span("<p>", False),
        Span("Three", True),
        Span(" trams at Quay Gate</p>", False),
    )
    assert [span.text for span in changed.received or () if span.differs] == ["Two"]


def test_lines_of_one_side_only_are_told() -> None:
    found = compared(PAGE.format(""), PAGE.format("<p>The password is wrong.</p>"))
    assert [(row.kind, row.recorded) for row in found.rows if row.kind != "same"] == [("only received", None)]
    back = compared(PAGE.format("<b>1</b>"), PAGE.format(""))
    assert [row.kind for row in back.rows if row.kind != "same"] == ["only recorded"]


def test_json_is_compared_place_by_place() -> None:
    found = compared('{"ticket": {"number": "T-1", "zone": "A"}}', '{"ticket": {"number": "T-2", "zone": "A"}}')
    (changed,) = [row for row in found.rows if row.kind == "changed"]
    assert [span.text for span in changed.recorded or () if span.differs] == ["1"]


def test_status_type_and_a_missing_body_are_said_in_words() -> None:
    found = compare((200, "text/html; charset=utf-8", "<p>x</p>"), (403, "application/json", ""))
    assert found.facts == (
        "Status 200 was recorded, 403 received.",
        "text/html was recorded, application/json received.",
        "The received answer has no body.",
    )
    assert not compare((200, "text/html", "x"), (500, "text/html", "x")).same


def test_long_stretches_of_equal_lines_are_left_out_and_counted() -> None:
    left = [f"line {i}" for i in range(60)]
    right = [*left[:30], "line thirty", *left[31:]]
    found = compared("\n".join(left), "\n".join(right))
    assert [row.skipped for row in found.rows] == [28, 0, 0, 0, 0]
    assert lines(found, "received") == ["line 28", "line 29", "line thirty", "line 31", "line 32"]


def test_very_long_answers_are_cut_and_it_is_said() -> None:
    left = [f"line {i}" for i in range(MAX_LINES + 10)]
    assert compared("\n".join(left), "\n".join(["other", *left[1:]])).cut


@given(st.lists(st.sampled_from("abcd"), max_size=30), st.lists(st.sampled_from("abcd"), max_size=30))
def test_every_line_that_differs_is_shown_on_its_side(left: list[str], right: list[str]) -> None:
    found = compared("\n".join(left), "\n".join(right), "text/plain")
    skipped = sum(row.skipped for row in found.rows)
    trailing = len(left) - skipped - len(lines(found, "recorded"))
    assert found.same == (left == right)
    if not found.same:
        assert trailing >= 0
        assert len(right) - skipped - len(lines(found, "received")) == trailing
        assert left[len(left) - trailing :] == right[len(right) - trailing :] or trailing == 0


def test_comparing_long_lines_takes_no_time_worth_mentioning_and_loses_no_word() -> None:
    random = Random(1)
    for count, length in ((1, 50_000), (400, 250)):
        left, right = (
            ["start " + "".join(random.choices("ab ,", k=length)) + " end" for _ in range(count)] for _ in range(2)
        )
        began = time.process_time()
        found = compared("\n".join(left), "\n".join(right), "text/plain")
        assert time.process_time() - began < 10
        assert lines(found, "recorded") == left
        assert lines(found, "received") == right
        assert all(row.received is None or not row.received[0].differs for row in found.rows)


def test_an_answer_nested_too_deep_is_compared_as_text() -> None:
    assert not compared("[" * 50_000, '{"a":' * 50_000, "application/json").same
