"""What cannot be kept is refused, wherever it stands, with its place."""

from __future__ import annotations

import time
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.plan import clean, document
from stonekettle.plan.problems import PlanError

PLAIN = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(2**63) + 1, 2**63 - 1)
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0")),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text("abc", min_size=1), inner, max_size=4),
)


@given(PLAIN)
def test_plain_data_passes_as_it_is(value: Any) -> None:
    assert clean.checked(value) is value


@pytest.mark.parametrize(
    ("bad", "says"),
    [
        ("a\0b", "NUL"),
        ("\ud800", "lone surrogate"),
        (float("inf"), "finite"),
        (float("nan"), "finite"),
        (10**30, "too large"),
        (b"bytes", "bytes"),
        ({1: "x"}, "not text"),
    ],
)
@pytest.mark.parametrize("wrap", [lambda v: v, lambda v: {"load": [{"hold": v}]}])
def test_what_cannot_be_kept_is_refused_with_its_place(bad: Any, says: str, wrap: Any) -> None:
    with pytest.raises(PlanError) as refused:
        clean.checked(wrap(bad))
    (problem,) = refused.value.problems
    assert says in str(problem)
    assert problem.path == ("document" if wrap(0) == 0 else "load[0].hold")


def test_a_bomb_of_aliases_is_refused_at_once() -> None:
    lines = ["a: &a [x,x,x,x,x,x,x,x,x]"]
    for name, before in zip("bcdefgh", "abcdefg", strict=True):
        lines.append(f"{name}: &{name} [" + ",".join([f"*{before}"] * 9) + "]")
    began = time.process_time()
    with pytest.raises(PlanError, match="60000 values"):
        clean.from_yaml("\n".join(lines))
    assert time.process_time() - began < 10


@pytest.mark.parametrize("read", [clean.from_yaml, clean.from_json])
def test_depth_is_bounded(read: Any) -> None:
    for depth in (100, 100_000):
        with pytest.raises(PlanError, match="levels deep"):
            read("[" * depth + "]" * depth)


@pytest.mark.parametrize("text", ["9" * 5_000, "[1, 2", "NaN", "Infinity", '{"a": "\\u0000"}', '"\\ud800"'])
def test_json_that_cannot_be_kept_is_refused(text: str) -> None:
    with pytest.raises(PlanError):
        clean.from_json(text)


def test_dates_are_text() -> None:
    assert clean.from_yaml("from: 2026-11-25\nto: 2026-11-25 12:30:00") == {
        "from": "2026-11-25",
        "to": "2026-11-25 12:30:00",
    }


@pytest.mark.parametrize("text", ["x: !!binary aGVsbG8=", "x: .inf", f"x: {'9' * 5000}", "? [a]\n: b", "1: x"])
def test_yaml_that_cannot_be_kept_is_refused(text: str) -> None:
    with pytest.raises((PlanError, Exception)) as refused:
        clean.from_yaml(text)
    assert type(refused.value).__name__ in ("PlanError", "ConstructorError")


@pytest.mark.parametrize(
    "text",
    [
        "a: &a {"
        + ",".join(f"k{i}: 1" for i in range(3_000))
        + "}\n"
        + "".join(f"b{i}: {{<<: *a}}\n" for i in range(2_000)),
        "a: [" + "1," * 2_400_000 + "]",
        "a: " + "1:" * 100_000 + "1",
        "".join(f"k{i}: 1\n" for i in range(400_000)),
    ],
    ids=["merged keys", "a long list", "a number to the base of sixty", "many fields"],
)
def test_no_document_takes_long_to_refuse(text: str) -> None:
    began = time.process_time()
    with pytest.raises(PlanError):
        document.read(text)
    assert time.process_time() - began < 10
