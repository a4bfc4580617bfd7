"""Capacity plans over HTTP."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status

from stonekettle.plan import capacity_document, checking
from stonekettle.plan.checking import MAX_BYTES
from stonekettle.server.access.roles import Role, actor_of
from stonekettle.server.capacity import planning, rules, trials
from stonekettle.server.capacity.models import CapacityPlan
from stonekettle.server.drafts import DraftBody, StepBody
from stonekettle.server.systems.models import System

router = Router(tags=["capacity"])


class CapacityLine(Schema):
    """A plan as a line: for which system, and the highest load it is for, expected on a day."""

    id: int
    name: str
    system: str
    load: float
    unit: str
    on: date
    archived: bool
    changed_at: datetime


class CapacityDetail(CapacityLine):
    """``document`` is the plan's own document; ``system_id`` None: there is no system of that name any more."""

    system_id: int | None
    document: dict[str, Any]
    revision: int
    can_undo: bool
    can_redo: bool


class NewCapacity(Schema):
    """A plan from a document's text (YAML or JSON), or one to fill in, for a system."""

    source: str | None = Field(default=None, max_length=MAX_BYTES)
    system_id: int | None = None


class ArchiveCapacity(Schema):
    archived: bool


class CapacityCreated(Schema):
    id: int


class TrialMade(Schema):
    """The experiment that was made."""

    experiment_id: int


@router.get("/capacity", response=list[CapacityLine])
def list_capacity_plans(request: HttpRequest, archived: bool = False) -> list[CapacityLine]:
    """All capacity plans by name, those in use or the archived ones."""
    return [CapacityLine(**_line(plan)) for plan in CapacityPlan.objects.filter(archived_at__isnull=not archived)]


@router.post("/capacity", response={201: CapacityCreated})
def create_capacity_plan(request: HttpRequest, body: NewCapacity) -> Status[CapacityCreated]:
    """A plan from a document, or a new one for a system."""
    actor = actor_of(request)
    actor.check(Role.PLANNER)
    if body.source is not None:
        made = rules.create(actor, capacity_document.to_document(capacity_document.read(body.source)))
    else:
        made = rules.begin(actor, get_object_or_404(System, pk=body.system_id), date.today())
    return Status(201, CapacityCreated(id=made.pk))


@router.get("/capacity/{plan_id}", response=CapacityDetail)
def get_capacity_plan(request: HttpRequest, plan_id: int) -> CapacityDetail:
    return _detail(_plan(plan_id))


@router.put("/capacity/{plan_id}", response=CapacityDetail)
def save_capacity_plan(request: HttpRequest, plan_id: int, body: DraftBody) -> CapacityDetail:
    """Save the document as a new revision."""
    rules.drafts.save(actor_of(request), _plan(plan_id), body.document, body)
    return _detail(_plan(plan_id))


@router.post("/capacity/{plan_id}/undo", response=CapacityDetail)
def undo_capacity_plan(request: HttpRequest, plan_id: int, body: StepBody) -> CapacityDetail:
    """The revision before becomes the one in force."""
    return _detail(rules.drafts.undo(actor_of(request), _plan(plan_id), body.base))


@router.post("/capacity/{plan_id}/redo", response=CapacityDetail)
def redo_capacity_plan(request: HttpRequest, plan_id: int, body: StepBody) -> CapacityDetail:
    """Take the last undo back."""
    return _detail(rules.drafts.redo(actor_of(request), _plan(plan_id), body.base))


@router.post("/capacity/{plan_id}/duplicate", response={201: CapacityCreated})
def duplicate_capacity_plan(request: HttpRequest, plan_id: int) -> Status[CapacityCreated]:
    return Status(201, CapacityCreated(id=rules.drafts.duplicate(actor_of(request), _plan(plan_id)).pk))


@router.post("/capacity/{plan_id}/archive", response=CapacityDetail)
def archive_capacity_plan(request: HttpRequest, plan_id: int, body: ArchiveCapacity) -> CapacityDetail:
    """Put a plan out of the way, or bring it back."""
    rules.drafts.shelve(actor_of(request), _plan(plan_id), body.archived)
    return _detail(_plan(plan_id))


@router.get("/capacity/{plan_id}/answer", response=planning.CapacityAnswer)
def answer_capacity_plan(request: HttpRequest, plan_id: int) -> planning.CapacityAnswer:
    """What the plan comes to: how many instances of each component, what they do at the peak and cost, and until when
    the present ones are enough."""
    return planning.of(_plan(plan_id))


@router.get("/capacity/{plan_id}/otherwise", response=list[planning.OtherwiseLine])
def vary_capacity_plan(request: HttpRequest, plan_id: int) -> list[planning.OtherwiseLine]:
    """What would be needed if demands, think time, mix or load were other ones."""
    return planning.otherwise(_plan(plan_id))


@router.get("/capacity/{plan_id}/trials", response=trials.Trials)
def list_trials(request: HttpRequest, plan_id: int) -> trials.Trials:
    """What was foretold of the plan each time it was tried, beside what came of it."""
    return trials.of(_plan(plan_id))


@router.post("/capacity/{plan_id}/trials", response={201: TrialMade})
def make_trial(request: HttpRequest, plan_id: int) -> Status[TrialMade]:
    """Make the experiment that would confirm the plan or break it."""
    return Status(201, TrialMade(experiment_id=trials.make(actor_of(request), _plan(plan_id)).experiment_id))


@router.get("/capacity/{plan_id}/plan.yaml")
def download_capacity_plan(request: HttpRequest, plan_id: int) -> HttpResponse:
    """The document as YAML."""
    text = checking.to_yaml(dict(_plan(plan_id).document))
    headers = {"Content-Disposition": 'attachment; filename="capacity-plan.yaml"'}
    return HttpResponse(text, content_type="application/yaml", headers=headers)


def _plan(plan_id: int) -> CapacityPlan:
    return get_object_or_404(CapacityPlan, pk=plan_id)


def _line(plan: CapacityPlan) -> dict[str, Any]:
    told = plan.told
    highest = told.highest
    return {
        "id": plan.pk,
        "name": plan.name,
        "system": told.system,
        "load": highest.load,
        "unit": planning.UNITS[told.counted_in],
        "on": highest.on,
        "archived": plan.archived_at is not None,
        "changed_at": plan.changed_at,
    }


def _detail(plan: CapacityPlan) -> CapacityDetail:
    return CapacityDetail(
        **_line(plan),
        system_id=plan.system_id,
        document=dict(plan.document),
        revision=plan.current.pk,
        can_undo=plan.can_undo,
        can_redo=plan.can_redo,
    )
