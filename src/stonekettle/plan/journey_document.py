"""A journey's own document: read, written, checked, and its secrets kept from view."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from stonekettle.plan.checking import parse, plain, repeated, validated
from stonekettle.plan.journey import JourneyDraft, impossible_patterns
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.system_document import KEPT, masked


def read(text: str) -> JourneyDraft:
    """A journey from YAML or JSON text. Raises :class:`PlanError` with every problem found."""
    return from_document(parse(text))


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


def without_secrets(document: Mapping[str, Any]) -> dict[str, Any]:
    """The document with its session's credentials hidden."""
    session = document.get("session")
    return {**document, "session": masked(session)} if session else dict(document)


def with_kept_secrets(document: Mapping[str, Any], before: Mapping[str, Any]) -> dict[str, Any]:
    """The document with each hidden secret replaced by the one there was. Raises :class:`PlanError`."""
    session = document.get("session")
    given = session.get("credentials") if isinstance(session, Mapping) else None
    if not isinstance(session, Mapping) or not isinstance(given, Mapping):
        return dict(document)
    known = (before.get("session") or {}).get("credentials") or {}
    for key, value in given.items():
        if value == KEPT and key not in known:
            path = f"session.credentials.{key}"
            raise PlanError([Problem(path, "there is no secret to keep here.", "Write it anew.")])
    credentials = {key: known[key] if value == KEPT else value for key, value in given.items()}
    return {**document, "session": {**session, "credentials": credentials}}


def _inconsistencies(draft: JourneyDraft) -> Iterable[Problem]:
    yield from repeated("steps", [step.name for step in draft.steps])
    yield from impossible_patterns(draft.steps, draft.proof)
