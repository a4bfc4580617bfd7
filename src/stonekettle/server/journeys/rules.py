"""What may happen to a journey."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from stonekettle.engine.local import practice_directory
from stonekettle.engine.script import compile_plan
from stonekettle.engine.targets import check_allowed
from stonekettle.engine.trial import JourneyTrial, Tell, silent, try_journey
from stonekettle.plan import document, journey_document, secrecy
from stonekettle.plan.feed import columns_of
from stonekettle.plan.imports.files import Imported
from stonekettle.plan.journey import JourneyDraft
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.access import halting
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.drafts import Document, Drafts
from stonekettle.server.feeds import rules as feeds
from stonekettle.server.feeds.models import Feed, FeedFile
from stonekettle.server.journeys.models import Journey, RecordedAnswer
from stonekettle.server.systems import rules as systems
from stonekettle.server.systems import runners
from stonekettle.server.targets import allowances

NEW_NAME = "New journey"


def checked(given: Document, before: Document | None) -> dict[str, Any]:
    """A valid document; a secret that was not shown stays what it was before, as long as the journey's
    system is where it was given for. Raises :class:`PlanError` with every problem."""
    whole = secrecy.restored(secrecy.in_journey, given, before)
    draft = journey_document.from_document({key: value for key, value in whole.items() if key != "secrets_for"})
    tied = (before or {}).get("secrets_for")
    origin = _origin(draft.system)
    if secrecy.KEPT in secrecy.own(given) and tied is not None and origin is not None and tied != origin:
        message = f"its secrets were given for {tied}, and {draft.system!r} is at {origin}."
        raise PlanError([Problem("system", message, "Write every secret anew, or choose the system they are for.")])
    if not secrecy.own(whole):
        return journey_document.to_document(draft)
    return {**journey_document.to_document(draft), **({"secrets_for": known} if (known := origin or tied) else {})}


def _origin(system: str) -> str | None:
    """Where the system of this name is."""
    described = systems.drafts.find(system) if system else None
    return secrecy.origin_of(described["base_url"]) if described else None


def _amended(journey: Journey) -> None:
    Journey.objects.filter(pk=journey.pk).update(tried_position=None)
    journey.tried_position = None


drafts = Drafts(Journey, "journey", checked, secrecy.in_journey, _amended)


def fed(draft: JourneyDraft) -> set[str]:
    """The columns of the feeds a journey brings along."""
    brought = [feed.draft.feed for feed in Feed.objects.filter(name__in=draft.feeds)]
    return columns_of(feed for feed in brought if feed is not None)


@transaction.atomic
def from_file(actor: Actor, found: Imported, accepted: set[str]) -> Journey:
    """A journey as a file gives it, with what was answered when it was recorded."""
    journey = drafts.create(actor, found.accepted(accepted))
    RecordedAnswer.objects.bulk_create(
        RecordedAnswer(
            journey=journey,
            number=number,
            status=answer.status,
            content_type=answer.content_type[:200],
            body=answer.body.replace("\0", ""),
        )
        for number, answer in enumerate(found.answers)
    )
    return journey


@transaction.atomic
def duplicate(actor: Actor, journey: Journey) -> Journey:
    """A copy with what was recorded for it."""
    copy = drafts.duplicate(actor, journey)
    for answer in journey.recorded.all():
        answer.pk, answer.journey = None, copy
        answer.save()
    return copy


def try_once(actor: Actor, journey: Journey, tell: Tell = silent, user: int = 1) -> JourneyTrial:
    """Walk the journey once as one ``user`` against its system, and remember how it went. ``tell`` hears
    each step begun. Raises
    :class:`PlanError` for what keeps it from being tried, ``TrialFailed`` where load may not go."""
    actor.check(Role.PLANNER)
    halting.check()
    draft = journey.draft
    described = systems.drafts.find(draft.system) if draft.system else None
    if described is None:
        message = f"there is no system named {draft.system!r}." if draft.system else "no system is chosen."
        raise PlanError([Problem("system", message, "Choose the system to try it against.")])
    if not any(step.enabled for step in draft.steps):
        raise PlanError([Problem("steps", "the journey has no step to try.", "Add a step, or enable one.")])
    missing = draft.missing(fed(draft))
    if missing:
        names = ", ".join(missing)
        mend = "Choose a feed with such a column, or give a sample value."
        raise PlanError([Problem("sample", f"no value is given for {names}.", mend)])
    kept = {key: value for key, value in journey.document.items() if key not in ("system", "notes", "feeds")}
    plan = document.from_document(
        {
            "name": draft.name,
            "system": described,
            "feeds": [{"feed": name} for name in draft.feeds],
            "journeys": [kept],
            "load": [{"hold": {"users": 1, "for": "10 s"}}],
        },
        lambda kind, name: feeds.drafts.find(name),
    )
    plan = document.with_files(plan, FeedFile.text_of)
    plan = document.resolved(plan, practice_directory(settings.PRACTICE_CONTROL))
    runners.check(actor, plan.addresses)
    allowance = allowances.current(plan.addresses)
    for error in check_allowed(plan.addresses, allowance):
        raise PlanError([Problem(error.path, error.message, error.mend)])
    walked = try_journey(compile_plan(plan), plan.system.base_url, 0, tell, user, allowance)
    trial = _beside_recorded(journey, draft, walked)
    _remember(actor, journey, trial)
    return trial


@act("tried", Role.PLANNER)
def _remember(account: Account, journey: Journey, trial: JourneyTrial) -> None:
    Journey.objects.filter(pk=journey.pk).update(
        tried_position=journey.position, tried_at=timezone.now(), trial_reason=trial.reason
    )
    account.about("journey", journey.pk, journey.name, note=trial.reason or "It passed.")


def _beside_recorded(journey: Journey, draft: JourneyDraft, trial: JourneyTrial) -> JourneyTrial:
    """The trial with the recorded answers beside those received."""
    numbers = {step.name: step.recorded for step in draft.steps}
    answers = {answer.number: answer for answer in journey.recorded.all()}
    steps = []
    for step in trial.steps:
        answer = answers.get(-1 if (number := numbers.get(step.name)) is None else number)
        steps.append(step.beside((answer.status, answer.content_type, answer.body)) if answer else step)
    return replace(trial, steps=tuple(steps))
