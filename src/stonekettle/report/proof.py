"""Was the work really done? Journeys completed beside what the server counted."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.run_data import RunData
from stonekettle.meters.counts import source_of
from stonekettle.meters.rates import increments
from stonekettle.meters.samples import Readings, Source
from stonekettle.plan.journey import Journey
from stonekettle.plan.models import Plan
from stonekettle.report import numbers
from stonekettle.report.notes.note import Evidence, Note


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
        items = [item for item in readings.series if _counts(item.source, journey)]
        grown = float(np.sum([increments(item).sum() for item in items])) if items else None
        expected = completed * journey.proof.per_journey
        found.append(ProofResult(journey.name, journey.proof.subject, completed, expected, grown))
    return tuple(found)


def _counts(source: Source, journey: Journey) -> bool:
    """Whether this series is the count a journey names."""
    proof = journey.proof
    if proof is None or proof.metric is None:
        return source == source_of(journey.name)
    return source.component == proof.component and source.metric == proof.metric.removesuffix("_total")


def note(result: ProofResult) -> Note:
    """The proof in a sentence."""
    completed, expected = numbers.users(result.completed), numbers.users(result.expected)
    evidence = Evidence(rows=("throughput",))
    kind = f"proof of {result.journey}"
    if result.counted is None:
        title = f"{result.journey}: the server's count was not read"
        text = f"{completed} journeys were completed; {result.metric} was not read."
        return Note(kind=kind, grade="open", title=title, text=text, evidence=evidence)
    counted = numbers.users(result.counted)
    if result.verdict == "same":
        title = f"{result.journey}: the work was done"
        text = f"{completed} journeys were completed, and {result.metric} grew by {counted}."
        return Note(kind=kind, grade="holds", title=title, text=text, evidence=evidence)
    title = f"{result.journey}: the server counted {counted}, not {expected}"
    text = (
        f"{completed} journeys were completed. Somebody else uses the system too, or answers promised "
        "what was not done: check what a successful answer says."
    )
    return Note(kind=kind, grade="broken", title=title, text=text, evidence=evidence)
