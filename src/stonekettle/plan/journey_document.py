"""A journey's own document: read, written and checked."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from stonekettle.plan.checking import parse, plain, repeated, validated
from stonekettle.plan.journey import JourneyDraft, impossible_patterns
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.secrecy import in_journey, restored


def read(text: str) -> JourneyDraft:
    """A journey from YAML or JSON text. Raises :class:`PlanError` with every problem found."""
    return from_document(parse(text))


def parsed(content: bytes) -> dict[str, Any]:
    """A journey's document from the bytes of its file, checked but for secrets that are left out of it."""
    data = parse(content.decode("utf-8-sig", "replace"))
    shown = restored(in_journey, data, None)
    from_document(shown)
    return dict(shown)


def from_document(document: object) -> JourneyDraft:
    """A journey from plain data, checked as a whole."""
    if not isinstance(document, Mapping):
        raise PlanError([Problem("document", "this is not a journey.", "Start with 'name:' and 'steps:'.")])
    draft = validated(JourneyDraft, document)
    problems = list(_inconsistencies(draft))
    if problems:
        raise PlanError(problems)
    return draft


def to_document(draft: JourneyDraft) -> dict[str, Any]:
    """Plain data that :func:`from_document` reads back as the same journey."""
    return plain(draft)


def _inconsistencies(draft: JourneyDraft) -> Iterable[Problem]:
    yield from repeated("steps", [step.name for step in draft.steps])
    yield from impossible_patterns(draft.steps, draft.proof)
