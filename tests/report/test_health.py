"""The checks of a run in words, and what is true of them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import get_args

import pytest

from stonekettle.core.analysis import Analysis
from stonekettle.core.health import Check, CheckKind
from stonekettle.core.orders import PlannedLevel, as_planned
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.report import health
from stonekettle.report.health import Health, RunCheck
from stonekettle.report.proof import ProofResult
from tests.conftest import climb
from tests.report.test_explain import analysed
from tests.report.test_suspects import TWO

LOAD = climb(20, 180, 20)
ORDERED = as_planned(LOAD).levels()


@pytest.fixture(scope="module")
def analysis() -> Analysis:
    return analysed(TWO, LOAD)


def told(analysis: Analysis, plan: Plan, proofs: tuple[ProofResult, ...] = ()) -> Health:
    return health.told(analysis, plan, ORDERED, proofs, ORDERED[-1].end_s)


def of_run(found: Health, kind: str) -> list[RunCheck]:
    return [one for one in found.run if one.kind == kind]


def test_every_check_has_a_mark_and_words_at_every_level(analysis: Analysis, make_plan: Callable[..., Plan]) -> None:
    found = told(analysis, make_plan())
    assert [level.load for level in found.levels][:2] == ["20 users", "40 users"]
    assert {check.kind for check in found.checks} == set(get_args(CheckKind))
    for check in found.checks:
        assert check.asks.endswith("?")
        assert check.means.endswith(".")
        assert [one.level for one in check.levels] == [level.number for level in found.levels]
        assert all(one.told.endswith(".") and "nan" not in one.told for one in check.levels)


@pytest.mark.parametrize(
    ("check", "words"),
    [
        (Check("little", 1, "broken", 0.12, 0.03), "12 % of the users are unaccounted for; chance and settling"),
        (Check("little", 1, "broken", -0.12, 0.03), "12 % of the users are counted twice"),
        (Check("work", 1, "strained", -0.08, 0.05, "store.cpu"), "`store` CPU worked 8.00 % less for a step than"),
        (Check("work", 1, "unknown", math.nan, math.nan), "Not known: its resources were full"),
        (Check("pauses", 1, "strained", 3.2, 0.0), "No step began for 3.20 s."),
        (Check("blur", 1, "unknown", math.nan, 0.05), "No step succeeded."),
        (Check("meters", 1, "strained", 3.0, 0.0, "store.disk"), "`store` disk and 2 more not read."),
        (Check("late", 1, "strained", 0.03, 0.01), "3.00 % of the users present were overdue"),
    ],
)
def test_what_fails_is_told_with_its_figure(analysis: Analysis, check: Check, words: str) -> None:
    assert health._in_words(check, analysis.levels[0], analysis).startswith(words)


def test_levels_that_were_ordered_and_are_none_are_named(analysis: Analysis, make_plan: Callable[..., Plan]) -> None:
    (whole,) = of_run(told(analysis, make_plan()), "levels")
    assert (whole.grade, whole.text) == ("holds", "9 of 9 levels ordered are measured.")
    lost = replace(analysis, levels=(*analysis.levels[:3], *analysis.levels[4:]))
    (short,) = of_run(told(lost, make_plan()), "levels")
    assert short.grade == "strained"
    assert short.text.startswith("8 of 9 levels ordered are measured. Not 80 users from ")
    # What was to come after the run had ended is not missing.
    ended = replace(analysis, levels=analysis.levels[:3])
    found = health.told(ended, make_plan(), [*ORDERED[:3], PlannedLevel(1e6, 30, 500)], (), ORDERED[2].end_s)
    assert of_run(found, "levels")[0].grade == "holds"


def test_a_host_that_takes_processors_is_told_and_no_verdict(
    analysis: Analysis, make_plan: Callable[..., Plan]
) -> None:
    robbed = replace(analysis, measuring=replace(analysis.measuring, stolen=0.2))
    (host,) = of_run(told(robbed, make_plan()), "host")
    assert (host.grade, host.text[:4]) == ("strained", "20 %")
    assert of_run(told(analysis, make_plan()), "host")[0].grade == "holds"


def test_the_same_data_for_everybody_is_warned_of(analysis: Analysis, plan_text: Callable[..., str]) -> None:
    text = plan_text()
    (alike,) = of_run(told(analysis, document.read(text)), "data")
    assert alike.grade == "open"
    assert "'visit' sends the same requests, without any value of their own" in alike.text
    own = document.read(text.replace("GET /,", "'GET /?user={{user_number}}',"))
    assert of_run(told(analysis, own), "data")[0].grade == "holds"
    towns = text.replace("GET /,", "'GET /?for={{town}}',")
    same = document.read(towns.replace("  - name: visit", "  - name: visit\n    sample: {town: Bay}"))
    (sampled,) = of_run(told(analysis, same), "data")
    assert sampled.grade == "strained"
    assert "Every user of 'visit' sends the same town" in sampled.text


def test_work_is_proven_or_said_not_to_be(analysis: Analysis, make_plan: Callable[..., Plan]) -> None:
    (unproven,) = of_run(told(analysis, make_plan()), "work done")
    assert unproven.grade == "open"
    assert "'visit'" in unproven.text
    same, other = ProofResult("visit", "shop tickets", 90, 90.0, 90.0), ProofResult("visit", "shop tickets", 90, 90, 40)
    grades = [one.grade for one in of_run(told(analysis, make_plan(), (same, other)), "work done")]
    assert grades == ["holds", "broken", "open"]
