"""Durations, shares and amounts of memory as people write them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic_core import PydanticCustomError

from stonekettle.plan.quantities import format_bytes, format_duration, parse_bytes, parse_duration, parse_share


@pytest.mark.parametrize(
    ("text", "seconds"),
    [("30 s", 30), ("30s", 30), ("1.5 min", 90), ("250 ms", 0.25), ("2 h", 7200), ("0 s", 0)],
)
def test_durations_are_read(text: str, seconds: float) -> None:
    assert parse_duration(text) == pytest.approx(seconds)


@pytest.mark.parametrize("value", ["30 sek", "30", 30, "s", "-3 s", None, "3 days", "1 min 20"])
def test_anything_else_is_refused_with_its_text_and_the_mend(value: object) -> None:
    with pytest.raises(PydanticCustomError) as caught:
        parse_duration(value)
    assert repr(value) in caught.value.message()
    assert "'30 s'" in (caught.value.context or {})["mend"]


@given(st.integers(0, 10_000_000))
def test_formatting_and_reading_are_inverse(milliseconds: int) -> None:
    seconds = milliseconds / 1000
    assert parse_duration(format_duration(seconds)) == pytest.approx(seconds, rel=1e-9)


def test_shares_need_their_sign_and_a_range() -> None:
    assert parse_share("1 %") == pytest.approx(0.01)
    for wrong in ("1", 0.01, "101 %", "-1 %"):
        with pytest.raises(PydanticCustomError):
            parse_share(wrong)


@pytest.mark.parametrize(("text", "amount"), [("16 GB", 16e9), ("512 MiB", 512 * 2**20), ("1.5 kB", 1500), ("7 B", 7)])
def test_amounts_of_memory_round_trip(text: str, amount: float) -> None:
    assert parse_bytes(text) == amount
    assert parse_bytes(format_bytes(amount)) == amount


@pytest.mark.parametrize("text", ["16", "16 gb", "0 GB", "-1 GB", "many", 16])
def test_amounts_without_a_known_unit_are_refused(text: object) -> None:
    with pytest.raises(PydanticCustomError, match="amount of memory"):
        parse_bytes(text)


@pytest.mark.parametrize("text", ["9" * 400 + " h", "745 h", "9" * 30 + " ms"])
def test_times_that_nobody_waits_for_are_refused_in_few_words(text: str) -> None:
    with pytest.raises(PydanticCustomError) as refused:
        parse_duration(text)
    assert "longer than 31 days" in str(refused.value)
    assert len(str(refused.value)) < 120


def test_amounts_of_memory_are_finite() -> None:
    with pytest.raises(PydanticCustomError):
        parse_bytes("9" * 400 + " GB")
