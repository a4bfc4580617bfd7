"""Journeys over HTTP."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Field, File, Form, Router, Schema, Status
from ninja.files import UploadedFile

from stonekettle.plan import checking, journey_document, secrecy
from stonekettle.plan.checking import MAX_BYTES
from stonekettle.server.access.roles import actor_of
from stonekettle.server.drafts import DraftBody, StepBody
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.jobs import rules as jobs
from stonekettle.server.jobs.answers import JobStarted, started
from stonekettle.server.journeys import rules
from stonekettle.server.journeys.models import Journey
from stonekettle.server.journeys.work import JourneyFileUse
from stonekettle.server.requests import json_part

router = Router(tags=["journeys"])


class Use(Schema):
    id: int
    name: str


class JourneyLine(Schema):
    """A journey as a line; ``passed`` tells whether it passed a trial as it is now."""

    id: int
    name: str
    system: str
    steps: list[str]
    archived: bool
    changed_at: datetime
    tried_at: datetime | None
    passed: bool
    trial_reason: str
    experiments: list[Use]


class JourneyDetail(JourneyLine):
    """``document`` is the journey's own document, its secrets replaced by "(kept)"; ``missing`` are
    the variables that no response, feed of the journey or sample gives."""

    document: dict[str, Any]
    revision: int
    can_undo: bool
    can_redo: bool
    missing: list[str]


class NewJourney(Schema):
    """A journey from a document's text (YAML or JSON), or an empty one."""

    source: str | None = Field(default=None, max_length=MAX_BYTES)
    system: str = ""


class TrialBody(Schema):
    """As which ``user`` (from 1) it is tried: each has the rows of the feeds and the number it would have."""

    user: int = Field(default=1, ge=1, le=1_000_000)


class ArchiveJourney(Schema):
    archived: bool


class JourneyCreated(Schema):
    id: int


@router.get("/journeys", response=list[JourneyLine])
def list_journeys(request: HttpRequest, archived: bool = False) -> list[JourneyLine]:
    """All journeys by name, those in use or the archived ones."""
    users = experiments.by_journey()
    return [JourneyLine(**_line(j, users)) for j in Journey.objects.filter(archived_at__isnull=not archived)]


@router.post("/journeys", response={201: JourneyCreated})
def create_journey(request: HttpRequest, body: NewJourney) -> Status[JourneyCreated]:
    """A journey from a document, or an empty one to fill in."""
    if body.source is not None:
        document = journey_document.to_document(journey_document.read(body.source))
    else:
        document = {"name": rules.drafts.free_name(rules.NEW_NAME), "system": body.system}
    return Status(201, JourneyCreated(id=rules.drafts.create(actor_of(request), document).pk))


@router.post("/journey-files/look", response={202: JobStarted})
def look_at_journey_file(
    request: HttpRequest,
    file: File[UploadedFile],
    hosts: Form[list[str]] = [],  # noqa: B006
) -> Status[JobStarted]:
    """What a browser's recording (HAR), an API's description (OpenAPI) or a list of addresses (CSV)
    holds, and of a recording what should be kept anew each time. ``hosts`` are wanted besides the main
    one. Nothing is kept."""
    return started(jobs.start(actor_of(request), "look at journey file", {"hosts": hosts}, file))


@router.post("/journey-files", response={202: JobStarted})
def import_journey_file(request: HttpRequest, file: File[UploadedFile], use: Form[str]) -> Status[JobStarted]:
    """A journey from such a file; ``use`` is a JourneyFileUse as JSON."""
    given = {"use": json_part(JourneyFileUse, use).model_dump()}
    return started(jobs.start(actor_of(request), "import journey file", given, file))


@router.get("/journeys/{journey_id}", response=JourneyDetail)
def get_journey(request: HttpRequest, journey_id: int) -> JourneyDetail:
    return _detail(_journey(journey_id))


@router.put("/journeys/{journey_id}", response=JourneyDetail)
def save_journey(request: HttpRequest, journey_id: int, body: DraftBody) -> JourneyDetail:
    """Save the document as a new revision. A secret that reads "(kept)" stays as it was."""
    rules.drafts.save(actor_of(request), _journey(journey_id), body.document, body)
    return _detail(_journey(journey_id))


@router.post("/journeys/{journey_id}/undo", response=JourneyDetail)
def undo_journey(request: HttpRequest, journey_id: int, body: StepBody) -> JourneyDetail:
    """The revision before becomes the one in force."""
    return _detail(rules.drafts.undo(actor_of(request), _journey(journey_id), body.base))


@router.post("/journeys/{journey_id}/redo", response=JourneyDetail)
def redo_journey(request: HttpRequest, journey_id: int, body: StepBody) -> JourneyDetail:
    """Take the last undo back."""
    return _detail(rules.drafts.redo(actor_of(request), _journey(journey_id), body.base))


@router.post("/journeys/{journey_id}/duplicate", response={201: JourneyCreated})
def duplicate_journey(request: HttpRequest, journey_id: int) -> Status[JourneyCreated]:
    return Status(201, JourneyCreated(id=rules.duplicate(actor_of(request), _journey(journey_id)).pk))


@router.post("/journeys/{journey_id}/archive", response=JourneyDetail)
def archive_journey(request: HttpRequest, journey_id: int, body: ArchiveJourney) -> JourneyDetail:
    """Put a journey out of the way, or bring it back."""
    rules.drafts.shelve(actor_of(request), _journey(journey_id), body.archived)
    return _detail(_journey(journey_id))


@router.post("/journeys/{journey_id}/trial", response={202: JobStarted})
def try_journey(request: HttpRequest, journey_id: int, body: TrialBody) -> Status[JobStarted]:
    """Walk the journey once, now, as one user, and show everything that was sent and received."""
    given = {"journey": _journey(journey_id).pk, "user": body.user}
    return started(jobs.start(actor_of(request), "trial", given))


@router.get("/journeys/{journey_id}/journey.yaml")
def download_journey(request: HttpRequest, journey_id: int) -> HttpResponse:
    """The document as YAML, without its secrets."""
    document = secrecy.in_journey(_journey(journey_id).document, secrecy.hide)
    headers = {"Content-Disposition": 'attachment; filename="journey.yaml"'}
    return HttpResponse(checking.to_yaml(document), content_type="application/yaml", headers=headers)


def _journey(journey_id: int) -> Journey:
    return get_object_or_404(Journey, pk=journey_id)


def _line(journey: Journey, users: Mapping[int, Sequence[Experiment]]) -> dict[str, Any]:
    document = journey.document
    return {
        "id": journey.pk,
        "name": journey.name,
        "system": document.get("system", ""),
        "steps": [step["name"] for step in document.get("steps", []) if step.get("enabled", True)],
        "archived": journey.archived_at is not None,
        "changed_at": journey.changed_at,
        "tried_at": journey.tried_at,
        "passed": journey.has_passed,
        "trial_reason": journey.trial_reason,
        "experiments": [Use(id=experiment.pk, name=experiment.name) for experiment in users.get(journey.pk, ())],
    }


def _detail(journey: Journey) -> JourneyDetail:
    return JourneyDetail(
        **_line(journey, experiments.by_journey()),
        document=secrecy.in_journey(journey.document, secrecy.hide),
        revision=journey.current.pk,
        can_undo=journey.can_undo,
        can_redo=journey.can_redo,
        missing=list(journey.draft.missing(rules.fed(journey.draft))),
    )
