"""Conditions on the last seconds of a run: when they begin, how long they last, and how seldom chance makes one."""

from __future__ import annotations

import numpy as np

from stonekettle.core.notices import QUIET_S, Condition, Notice


def heard(condition: Condition, *stretches: tuple[int, float, float]) -> list[Notice]:
    """So many seconds each of a part of a whole, one stretch after the other."""
    second = 0
    for length, part, whole in stretches:
        for _ in range(length):
            condition.hear(second, part, whole)
            second += 1
    return condition.notices


def test_one_that_begins_is_told_with_its_beginning_and_its_end() -> None:
    order = Condition("order", "", 0.02, 10)
    (found,) = heard(order, (30, 0, 100), (20, 10, 100), (40, 0, 100))
    assert found.since_s == 30
    assert found.until_s is not None
    assert 50 <= found.until_s <= 62
    assert found.value == 0.1


def test_one_that_lasts_has_no_end() -> None:
    (found,) = heard(Condition("blur", "", 0.05, 10), (20, 0, 50), (30, 5, 50))
    assert (found.until_s, found.kind) == (None, "blur")


def test_on_the_edge_it_is_told_once() -> None:
    blur = Condition("blur", "", 0.05, 5)
    for second in range(200):
        blur.hear(second, 5.2 if second // 4 % 2 else 4.8, 100)
    assert len(blur.notices) <= 1


def test_it_comes_again_after_it_was_over() -> None:
    found = heard(Condition("order", "", 0.02, 5), (10, 0, 10), (10, 5, 10), (QUIET_S + 10, 0, 10), (10, 5, 10))
    assert [one.until_s is None for one in found] == [False, True]


def test_before_its_seconds_are_full_and_where_nobody_is_nothing_is_said() -> None:
    assert heard(Condition("order", "", 0.02, 10), (9, 5, 10)) == []
    assert heard(Condition("order", "", 0.02, 10), (50, 0, 0)) == []


def test_at_the_limit_itself_chance_makes_next_to_no_notice() -> None:
    random = np.random.default_rng(5)
    false = 0
    for _ in range(60):
        slow = Condition("objective", "Buy", 0.05, 30, counted=True)
        for second in range(300):
            slow.hear(second, float(random.binomial(20, 0.045)), 20.0)
        false += bool(slow.notices)
    assert false <= 6


def test_what_is_clearly_broken_is_told_within_its_seconds() -> None:
    random = np.random.default_rng(6)
    slow = Condition("objective", "Buy", 0.05, 30, counted=True)
    for second in range(120):
        slow.hear(second, float(random.binomial(20, 0.03 if second < 60 else 0.3)), 20.0)
        if slow.notices:
            break
    assert 60 <= second < 80
    assert 58 <= slow.notices[0].since_s <= 64
