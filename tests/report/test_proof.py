"""Journeys completed beside what the server counted."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from stonekettle.meters.samples import Readings
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError
from stonekettle.report import proof
from tests.conftest import steady_run
from tests.meters.conftest import readings, samples

COMPLETED = 50 * 60


@pytest.fixture
def plan(plan_text: Callable[..., str]) -> Plan:
    text = plan_text().replace(
        "  - name: visit\n", "  - name: visit\n    proof: {component: shop, metric: sold_total, per_journey: 2}\n"
    )
    return document.read(text)


def compared(plan: Plan, read: Readings) -> proof.ProofResult:
    (found,) = proof.compare(plan, steady_run(), read)
    return found


@pytest.mark.parametrize(
    ("counts", "verdict", "grade", "words"),
    [
        ([7, 7 + COMPLETED, 7 + 2 * COMPLETED], "same", "holds", "sold grew by 6,000"),
        ([0, 2 * COMPLETED, 1], "different", "broken", "counted 6,001, not 6,000"),
        ([0, 10, 20], "different", "broken", "counted 20, not 6,000"),
    ],
)
def test_both_counts_are_compared(plan: Plan, counts: list[float], verdict: str, grade: str, words: str) -> None:
    found = compared(plan, readings(samples("sold", counts, "counter")))
    assert (found.completed, found.expected, found.verdict) == (COMPLETED, 2 * COMPLETED, verdict)
    note = proof.note(found)
    assert note.grade == grade
    assert words.replace(",", " ") in f"{note.title} {note.text}".replace(",", " ") or words in note.title + note.text


def test_counts_of_all_instances_add_up(plan: Plan) -> None:
    halves = [samples("sold", [0, COMPLETED], "counter", instance=i) for i in "ab"]
    assert compared(plan, readings(*halves)).verdict == "same"


def test_a_count_nobody_read_is_said_to_be_missing(plan: Plan) -> None:
    found = compared(plan, Readings())
    assert found.verdict == "unknown"
    assert "was not read" in proof.note(found).title


def test_a_plan_without_proofs_has_none(make_plan: Callable[..., Plan]) -> None:
    assert proof.compare(make_plan(), steady_run(), Readings()) == ()


def test_an_unknown_component_is_told(plan_text: Callable[..., str]) -> None:
    text = plan_text().replace("  - name: visit\n", "  - name: visit\n    proof: {component: shpo, metric: sold}\n")
    with pytest.raises(PlanError, match="Did you mean 'shop'"):
        document.read(text)
