"""Where the time of a request went, by its spans."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.core.traces import Span, by_service, mean_time, stays_of


def span(name: str, parent: str, start_s: float, end_s: float, service: str = "") -> Span:
    return Span(name, parent, service or name, name, start_s, end_s)


def test_each_second_is_counted_once_and_where_it_was_spent() -> None:
    stays = stays_of(
        [
            span("gateway", "", 0.0, 10.0),
            span("planner", "gateway", 1.0, 7.0),
            span("ledger", "planner", 2.0, 5.0),
            span("cache", "gateway", 6.0, 8.0),  # a second beside the planner
        ]
    )
    assert [(stay.span.id, stay.depth) for stay in stays] == [
        ("gateway", 0),
        ("planner", 1),
        ("ledger", 2),
        ("cache", 1),
    ]
    assert by_service(stays) == pytest.approx({"gateway": 3.0, "planner": 2.5, "ledger": 3.0, "cache": 1.5})


def test_a_clock_that_is_off_is_brought_back_with_all_that_is_below() -> None:
    stays = stays_of(
        [span("gateway", "", 0.0, 10.0), span("ledger", "gateway", 7.0, 12.0), span("disk", "ledger", 8, 9, "ledger")]
    )
    assert [(stay.span.start_s, stay.span.end_s) for stay in stays] == [(0, 10), (5, 10), (6, 7)]
    early = stays_of([span("gateway", "", 100.0, 110.0), span("ledger", "gateway", 3.0, 6.0)])
    assert (early[1].span.start_s, early[1].span.end_s) == (100, 103)
    # What goes on after the answer, on the same clock, is left where it is.
    after = stays_of([span("a", "", 0.0, 4.0, "shop"), span("b", "a", 3.0, 6.0, "shop")])
    assert after[1].span.end_s == 6.0


def test_spans_of_unknown_or_circular_parents_are_not_lost() -> None:
    stays = stays_of([span("a", "b", 0, 2), span("b", "a", 0, 1), span("c", "elsewhere", 1, 3), span("d", "d", 4, 5)])
    assert {stay.span.id for stay in stays} == {"a", "b", "c", "d"}
    assert sum(stay.own_s for stay in stays) == pytest.approx(4.0)


moments = st.floats(0, 100)
trees = st.lists(st.tuples(st.integers(0, 8), moments, moments), max_size=9)


@given(trees)
def test_own_times_add_up_to_the_time_in_which_something_was_open(tree: list[tuple[int, float, float]]) -> None:
    spans = [span(f"{i}", f"{parent}", min(a, b), max(a, b), "one") for i, (parent, a, b) in enumerate(tree)]
    stays = stays_of(spans)
    assert sorted(stay.span.id for stay in stays) == sorted(one.id for one in spans)
    union, reached = 0.0, -math.inf
    for start, end in sorted((one.start_s, one.end_s) for one in spans):
        union += max(0.0, end - max(start, reached))
        reached = max(reached, end)
    assert sum(stay.own_s for stay in stays) == pytest.approx(union, abs=1e-9)


def test_the_mean_of_a_part_errs_less_than_its_own_mean_and_its_interval_covers() -> None:
    random = np.random.default_rng(5)
    covered, ratio_errors, plain_errors = 0, [], []
    for _ in range(400):
        whole = random.exponential(1.0, 4_000) + 0.05
        part = whole * random.uniform(0.5, 0.7, whole.size)
        some = random.choice(whole.size, 60, replace=False)
        found = mean_time(part[some], whole[some], float(whole.mean()))
        truth = float(part.mean())
        covered += found.low_s <= truth <= found.high_s
        ratio_errors.append(found.mean_s - truth)
        plain_errors.append(part[some].mean() - truth)
    assert 0.92 <= covered / 400 <= 0.98
    assert np.std(ratio_errors) < 0.3 * np.std(plain_errors)


def test_too_few_have_no_interval_and_none_no_mean() -> None:
    two = mean_time(np.array([1.0, 2.0]), np.array([2.0, 4.0]), 10.0)
    assert two.mean_s == pytest.approx(5.0)
    assert math.isnan(two.low_s)
    assert math.isnan(mean_time(np.zeros(0), np.zeros(0), 1.0).mean_s)
