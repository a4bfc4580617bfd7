"""Time spent in components, as the responses tell it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from stonekettle.engine.server_timing import PER_SECOND, TimingSampler, names_of, parse, series
from stonekettle.plan import document
from stonekettle.plan.models import Plan


@pytest.mark.parametrize(
    ("value", "found"),
    [
        (" gateway;dur=3.5, ledger;dur=120", [("gateway", 0.0035), ("ledger", 0.12)]),
        ('cache;desc="hit, warm";dur="0.5"', [('warm"', 0.0005)]),
        ("miss, db; dur = 7", [("db", 0.007)]),
        ("db;dur=soon", []),
        ("", []),
    ],
)
def test_header_values(value: str, found: list[tuple[str, float]]) -> None:
    assert [(name, pytest.approx(seconds)) for name, seconds in parse(value)] == found


def test_a_sample_is_taken_evenly_over_the_second() -> None:
    sampler = TimingSampler(["ledger"])
    taken = [sampler.take(k / 10_000) for k in range(10_000)]
    assert PER_SECOND <= sum(taken) <= PER_SECOND + 2
    assert sum(taken[:5000]) == pytest.approx(PER_SECOND / 2, abs=3)
    sampler.close_second()
    assert sampler.take(0.0)


def test_only_wanted_entries_are_added_up() -> None:
    sampler = TimingSampler(["ledger"])
    sampler.add(2, [b"HTTP/1.1 200 OK\r\n", b"server-timing: gateway;dur=1, ledger;dur=10\r\n"])
    sampler.add(2, [b"Server-Timing: ledger;dur=30\r\n"])
    assert sampler.close_second() == {"ledger": {"2": [2, pytest.approx(0.04)]}}
    assert sampler.close_second() == {}


def test_seconds_of_all_generators_become_series(plan_text: Callable[..., str]) -> None:
    text = plan_text().replace(
        "- {name: shop, meter", "- {name: shop, meters: [{server_timing: till}], notes: ''}\n    - {name: other, meter"
    )
    plan: Plan = document.read(text)
    assert names_of(plan) == ("till",)
    rollups = [
        {"second": 0, "timings": {"till": {"0": [1, 0.2]}}},
        {"second": 0, "timings": {"till": {"0": [3, 0.2]}}},
        {"second": 2, "timings": {"till": {"0": [2, 0.1]}}},
        {"second": 3},
    ]
    (found,) = series(plan, rollups)
    assert (found.source.component, found.source.labels) == ("shop", (("step", "page"),))
    np.testing.assert_allclose(found.times, [1, 3])
    np.testing.assert_allclose(found.values, [0.1, 0.05])
