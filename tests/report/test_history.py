"""Histories in words."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np

from stonekettle.core.types import Estimate
from stonekettle.report import history as words
from stonekettle.report.history import Line

RUNS = 20
DATES = [datetime(2026, 1, 5, tzinfo=UTC) + timedelta(days=14 * i) for i in range(RUNS)]


def line(seed: int, subject: str, figure: words.Figure, *steps: tuple[int, float], level: float = 0.2) -> Line:
    values = level * np.exp(np.random.default_rng(seed).normal(0, 0.02, RUNS))
    for at, ratio in steps:
        values[at:] *= ratio
    return Line(subject, figure, tuple(Estimate(v, v * 0.95, v * 1.05) for v in values.tolist()))


def told(*lines: Line, known: tuple[int, ...] = (), dates: list[datetime] = DATES) -> str:
    found = words.told(lines, known)
    return words.sentence(found, words.events(found, known), dates)


SEARCH = ("Plan a trip / Trip search", "p95")
PLANNER = ("planner.cpu", "demand")


def test_a_shift_is_told_with_its_date_what_goes_with_it_and_what_was_before() -> None:
    sentence = told(line(1, *SEARCH, (11, 1.2)), line(2, *PLANNER, (11, 1.15), level=0.01))
    assert sentence.startswith("Since 8 June 2026: Trip search p95 ")
    assert " % slower (+" in sentence
    assert "; `planner` CPU per step " in sentence
    assert " % more (" in sentence
    assert sentence.endswith(" goes with it; before that no change in 11 runs.")


def test_the_last_shift_is_told_and_since_when_it_had_been_the_same() -> None:
    sentence = told(line(1, *SEARCH, (6, 1.25), (13, 0.8)))
    assert sentence.startswith("Since 6 July 2026: Trip search p95 ")
    assert "faster" in sentence
    assert sentence.endswith("before that no change in 7 runs, since 30 March 2026.")


def test_no_change_says_what_would_have_shown() -> None:
    sentence = told(line(1, *SEARCH), line(2, *PLANNER))
    assert sentence.startswith("No change in 20 runs since 5 January 2026. A lasting change of ")
    assert sentence.endswith(" would have shown in most figures.")


def test_few_runs_say_how_many_are_needed() -> None:
    few = Line(*SEARCH, (Estimate(0.2, 0.19, 0.21),) * 3)
    assert told(few, dates=DATES[:3]) == "3 runs so far: from 6 on it can be told whether something shifted."


def test_at_a_known_change_two_runs_are_enough() -> None:
    late = line(4, *SEARCH, (18, 0.6))
    assert told(late).startswith("No change")
    assert told(late, known=(18,)).startswith("Since 14 September 2026: Trip search p95 4")


def test_a_known_change_that_changed_nothing_is_no_event() -> None:
    found = words.told([line(seed, f"J / s{seed}", "p95") for seed in range(8)], (6, 13))
    assert words.events(found, (6, 13)) == ()


def test_two_changes_known_of_are_two_events_however_near() -> None:
    lines = [line(1, *SEARCH, (8, 1.3)), line(2, "Buy / Ticket page", "p95", (10, 0.5))]
    found = words.told(lines, (8, 10))
    assert [event.at for event in words.events(found, (8, 10))] == [8, 10]


def test_runs_that_do_not_know_a_figure_are_passed_over() -> None:
    values = list(line(1, "", "comfort limit", (10, 1.4), level=300).values)
    values[3] = values[12] = None
    found = words.told([Line("", "comfort limit", tuple(values))])
    (event,) = words.events(found)
    assert event.at == 10
    assert "Comfort limit" in words.change(*event.shifts[0])
    assert "higher" in words.change(*event.shifts[0])
