"""Was the work really done? Journeys completed beside what the server counted."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.run_data import RunData
from stonekettle.meters.rates import increments
from stonekettle.meters.samples import Readings
from stonekettle.plan.models import Plan
from stonekettle.report import numbers
from stonekettle.report.sentences import Evidence, Note


@dataclass(frozen=True)
class ProofResult:
    """A journey's proof: journeys completed, how much the server's count should have grown, and how
    much it grew; None where it was not read."""

    journey: str
    metric: str
    completed: int
    expected: float
    counted: float | None

    @property
    def verdict(self) -> Literal["same", "different", "unknown"]:
        if self.counted is None:
            return "unknown"
        return "same" if abs(self.counted - self.expected) < 0.5 else "different"


def compare(plan: Plan, run: RunData, readings: Readings) -> tuple[ProofResult, ...]:
    """Every proof of the plan. A journey is completed when its last step succeeds."""
    last = {journey.name: number for number, (journey, _) in enumerate(plan.steps)}
    found = []
    for journey in plan.journeys:
        if journey.proof is None:
            continue
        step = last[journey.name]
        completed = int((run.completed[:, step] - run.errors[:, step]).sum())
        metric = journey.proof.metric.removesuffix("_total")
        items = [i for i in readings.by_component.get(journey.proof.component, ()) if i.source.metric == metric]
        grown = float(np.sum([increments(item).sum() for item in items])) if items else None
        found.append(
            ProofResult(
                journey.name,
                f"{journey.proof.component} {metric}",
                completed,
                completed * journey.proof.per_journey,
                grown,
            )
        )
    return tuple(found)


def note(result: ProofResult) -> Note:
    """The proof in a sentence."""
    completed, expected = numbers.users(result.completed), numbers.users(result.expected)
    evidence = Evidence(rows=("throughput",))
    kind = f"proof of {result.journey}"
    if result.counted is None:
        title = f"{result.journey}: the server's count was not read"
        text = f"{completed} journeys were completed; no meter read {result.metric}."
        return Note(kind, "open", title, text, (), evidence)
    counted = numbers.users(result.counted)
    if result.verdict == "same":
        title = f"{result.journey}: the work was done"
        text = f"{completed} journeys were completed, and {result.metric} grew by {counted}."
        return Note(kind, "holds", title, text, (), evidence)
    title = f"{result.journey}: the server counted {counted}, not {expected}"
    text = (
        f"{completed} journeys were completed. Somebody else uses the system too, or answers promised "
        "what was not done: check what a successful answer says."
    )
    return Note(kind, "broken", title, text, (), evidence)
