"""Three significant figures, units always."""

from __future__ import annotations

import math

import pytest

from stonekettle.report import numbers as n


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (0, "0"),
        (0.01234, "0.0123"),
        (1.005, "1.00"),
        (59.24, "59.2"),
        (410.4, "410"),
        (12345, "12 300"),
        (math.nan, "–"),
    ],
)
def test_figures(value: float, text: str) -> None:
    assert n.figure(value) == text


@pytest.mark.parametrize(
    ("value", "text"),
    [(0.34, "340 ms"), (1.24, "1.24 s"), (200, "3 min 20 s"), (180, "3 min"), (math.inf, "–")],
)
def test_seconds(value: float, text: str) -> None:
    assert n.seconds(value) == text


def test_the_rest() -> None:
    assert n.rate(59.17) == "59.2 steps/s"
    assert [n.percent(r) for r in (0.942, 0.0035, 0, 1)] == ["94 %", "0.350 %", "0 %", "100 %"]
    assert n.users(1234.4) == "1 234"
