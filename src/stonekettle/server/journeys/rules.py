"""What may happen to a journey."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.utils import timezone

from stonekettle.engine.local import practice_directory
from stonekettle.engine.script import compile_plan
from stonekettle.engine.targets import check_allowed
from stonekettle.engine.trial import JourneyTrial, try_journey
from stonekettle.plan import document, journey_document
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.drafts import Document, Drafts
from stonekettle.server.journeys.models import Journey
from stonekettle.server.systems import rules as systems

NEW_NAME = "New journey"


def checked(given: Document, before: Document | None) -> dict[str, Any]:
    """A valid document; a secret that was not shown stays what it was before."""
    whole = given if before is None else journey_document.with_kept_secrets(given, before)
    return journey_document.to_document(journey_document.from_document(whole))


def _renamed(journey: Journey, name: str) -> None:
    from stonekettle.server.experiments import rules as experiments

    experiments.rename_journey(journey.name, name)


drafts = Drafts(Journey, "journey", checked, _renamed)


def try_once(journey: Journey) -> JourneyTrial:
    """Walk the journey once as one user against its system, and remember how it went. Raises
    :class:`PlanError` for what keeps it from being tried, ``TrialFailed`` where load may not go."""
    draft = journey.draft
    described = systems.drafts.find(draft.system) if draft.system else None
    if described is None:
        message = f"there is no system named {draft.system!r}." if draft.system else "no system is chosen."
        raise PlanError([Problem("system", message, "Choose the system to try it against.")])
    if not any(step.enabled for step in draft.steps):
        raise PlanError([Problem("steps", "the journey has no step to try.", "Add a step, or enable one.")])
    if draft.missing:
        names = ", ".join(draft.missing)
        raise PlanError([Problem("sample", f"no value is given for {names}.", "Give a sample value for the trial.")])
    kept = {key: value for key, value in journey.current.document.items() if key not in ("system", "notes")}
    plan = document.from_document(
        {
            "name": draft.name,
            "system": described,
            "journeys": [kept],
            "load": [{"hold": {"users": 1, "for": "10 s"}}],
        }
    )
    plan = document.resolved(plan, practice_directory(settings.PRACTICE_CONTROL))
    for error in check_allowed([("system.base_url", plan.system.base_url)]):
        raise PlanError([Problem(error.path, error.message, error.mend)])
    trial = try_journey(compile_plan(plan), plan.system.base_url, 0)
    Journey.objects.filter(pk=journey.pk).update(
        tried_position=journey.position, tried_at=timezone.now(), trial_reason=trial.reason
    )
    return trial
