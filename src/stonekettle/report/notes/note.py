"""One conclusion in words, with what proves it."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict

from stonekettle.core.types import Declined, Estimate, Reason
from stonekettle.report import numbers as n

Grade = Literal["holds", "strained", "saturated", "broken", "open"]


class Evidence(BaseModel):
    """What proves a note: ``rows`` of the plate, and the load from ``low`` to ``high`` with ``at``."""

    model_config = ConfigDict(frozen=True)

    rows: tuple[str, ...] = ()
    at: float | None = None
    low: float | None = None
    high: float | None = None

    @classmethod
    def around(cls, rows: tuple[str, ...], load: Estimate) -> Evidence:
        """At a load with its interval."""
        return cls(rows=rows, at=load.value, low=load.low, high=load.high)


class Note(BaseModel):
    """One conclusion in words. ``kind`` is stable, for programs and tests."""

    model_config = ConfigDict(frozen=True)

    kind: str
    grade: Grade
    title: str
    text: str
    details: tuple[str, ...] = ()
    evidence: Evidence = Evidence()


def span(estimate: Estimate) -> str:
    """The interval of a load: "90 % interval 97–120"."""
    return f"{round(estimate.confidence * 100)} % interval {n.amount(estimate.low)}–{n.amount(estimate.high)}"


def resource_text(key: str) -> str:
    component, _, name = key.partition(".")
    return f"`{component}` {'CPU' if name == 'cpu' else name}"


_WHY: dict[Reason, str] = {
    Reason.NO_SUCCESS: "No step succeeded.",
    Reason.NO_OBJECTIVES: "The experiment has no objectives.",
    Reason.NOT_REACHED: "The run did not go so far.",
    Reason.BLURRED: "Measuring blurred it by more than the answer can bear: repeat it where the generators have room.",
    Reason.GENERATOR: "The generators did not deliver the load that was ordered: add generators, or repeat the run "
    "where they have room.",
    Reason.LAWS: "Users, throughput and response time do not fit together at too many levels.",
}


def declined(kind: str, subject: str, found: Declined, needs: str = "a level of 10 s with 100 steps") -> Note:
    """That a question has no answer, why, and, with too few levels, what it ``needs``."""
    why = f"It needs {needs}." if found.reason is Reason.TOO_FEW_LEVELS else _WHY[found.reason]
    return Note(kind=kind, grade="open", title=f"{subject}: no answer", text=why)
