"""Systems over HTTP."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status

from stonekettle.meters.otlp import OtlpError
from stonekettle.plan import checking, secrecy, system_document
from stonekettle.plan.checking import MAX_BYTES
from stonekettle.server import problems
from stonekettle.server.access.roles import actor_of
from stonekettle.server.drafts import DraftBody, StepBody
from stonekettle.server.runs import retention, traces
from stonekettle.server.runs import shelf as shelves
from stonekettle.server.runs.models import Run
from stonekettle.server.systems import listening, pushes, rules, runners
from stonekettle.server.systems.checks import MeterCheck, check
from stonekettle.server.systems.models import System
from stonekettle.server.systems.pins import PinBody

router = Router(tags=["systems"])
MAX_PINS = 24


class Reference(Schema):
    id: int
    name: str


class SystemLine(Schema):
    id: int
    name: str
    base_url: str
    components: list[str]
    meters: int
    archived: bool
    changed_at: datetime
    last_run_id: int | None
    experiments: list[Reference]


class SystemDetail(SystemLine):
    """``document`` is the system's own document, its secrets replaced by "(kept)"; ``played`` is whether it is the
    practice system, ``traced_at`` when traces of its runs came last."""

    document: dict[str, Any]
    revision: int
    can_undo: bool
    can_redo: bool
    token_hint: str
    played: bool
    traced_at: datetime | None
    pins: list[PinBody]


class NewSystem(Schema):
    """A system from a document's text (YAML or JSON), or an empty one."""

    source: str | None = Field(default=None, max_length=MAX_BYTES)


class ArchiveBody(Schema):
    archived: bool


class PinsBody(Schema):
    pins: list[PinBody] = Field(max_length=MAX_PINS)


class RunnersBody(Schema):
    people: list[str] = Field(max_length=500)


class RunnersLine(Schema):
    """Who may run on a system, beside administrators: these ``people``, or every planner where there are none;
    ``candidates`` may be chosen."""

    people: list[str]
    candidates: list[str]


class KeepingLine(retention.Keeping):
    """How long a system's runs are kept, and what is to go within the hour."""

    going: retention.Going


class Token(Schema):
    """A push token, told this once."""

    token: str


class Created(Schema):
    id: int


@router.get("/systems", response=list[SystemLine])
def list_systems(request: HttpRequest, archived: bool = False) -> list[SystemLine]:
    """All systems by name, those in use or the archived ones."""
    systems = System.objects.filter(archived_at__isnull=not archived).prefetch_related("experiments")
    return [SystemLine(**_line(system)) for system in systems]


@router.post("/systems", response={201: Created})
def create_system(request: HttpRequest, body: NewSystem) -> Status[Created]:
    """A system from a document, or an empty one to fill in."""
    source = None
    if body.source is not None:
        source = system_document.to_document(system_document.read(body.source))
    return Status(201, Created(id=rules.create(actor_of(request), source).pk))


@router.get("/systems/{system_id}", response=SystemDetail)
def get_system(request: HttpRequest, system_id: int) -> SystemDetail:
    return _detail(_system(system_id))


@router.put("/systems/{system_id}", response=SystemDetail)
def save_system(request: HttpRequest, system_id: int, body: DraftBody) -> SystemDetail:
    """Save the document as a new revision. A secret that reads "(kept)" stays as it was."""
    rules.drafts.save(actor_of(request), _system(system_id), body.document, body)
    return _detail(_system(system_id))


@router.post("/systems/{system_id}/undo", response=SystemDetail)
def undo(request: HttpRequest, system_id: int, body: StepBody) -> SystemDetail:
    """The revision before becomes the one in force."""
    return _detail(rules.drafts.undo(actor_of(request), _system(system_id), body.base))


@router.post("/systems/{system_id}/redo", response=SystemDetail)
def redo(request: HttpRequest, system_id: int, body: StepBody) -> SystemDetail:
    """Take the last undo back."""
    return _detail(rules.drafts.redo(actor_of(request), _system(system_id), body.base))


@router.post("/systems/{system_id}/duplicate", response={201: Created})
def duplicate(request: HttpRequest, system_id: int) -> Status[Created]:
    return Status(201, Created(id=rules.duplicate(actor_of(request), _system(system_id)).pk))


@router.post("/systems/{system_id}/archive", response=SystemDetail)
def archive(request: HttpRequest, system_id: int, body: ArchiveBody) -> SystemDetail:
    """Put a system out of the way, or bring it back."""
    rules.drafts.shelve(actor_of(request), _system(system_id), body.archived)
    return _detail(_system(system_id))


@router.post("/systems/{system_id}/token", response=Token)
def new_token(request: HttpRequest, system_id: int) -> Token:
    """A new token for pushing metrics; the one before stops working."""
    return Token(token=rules.new_token(actor_of(request), _system(system_id)))


@router.get("/systems/{system_id}/system.yaml")
def download_system(request: HttpRequest, system_id: int) -> HttpResponse:
    """The document as YAML, without its secrets."""
    system = _system(system_id)
    text = checking.to_yaml(secrecy.in_system(system.document, secrecy.hide))
    headers = {"Content-Disposition": 'attachment; filename="system.yaml"'}
    return HttpResponse(text, content_type="application/yaml", headers=headers)


@router.get("/systems/{system_id}/meters", response=list[MeterCheck])
def check_meters(request: HttpRequest, system_id: int) -> list[MeterCheck]:
    """Ask every meter now."""
    return check(_system(system_id))


@router.get("/systems/{system_id}/metrics", response=shelves.Shelf)
def get_shelf(request: HttpRequest, system_id: int) -> shelves.Shelf:
    """Every metric of the system's last run that has any."""
    return shelves.of(_last_run(_system(system_id)))


@router.put("/systems/{system_id}/pins", response=list[PinBody])
def save_pins(request: HttpRequest, system_id: int, body: PinsBody) -> list[PinBody]:
    """What the system's plates show beside its resources."""
    kept = [pin.model_dump() for pin in body.pins]
    rules.pin(actor_of(request), _system(system_id), kept)
    return body.pins


@router.post("/systems/{system_id}/v1/metrics", auth=None)
def push_metrics(request: HttpRequest, system_id: int) -> HttpResponse:
    """Receive metrics (OTLP over HTTP, protobuf or JSON) with the system's token as bearer."""
    return _pushed(request, system_id, "metrics", pushes.keep)


@router.post("/systems/{system_id}/v1/traces", auth=None)
def push_traces(request: HttpRequest, system_id: int) -> HttpResponse:
    """Receive traces (OTLP over HTTP, protobuf or JSON) with the system's token as bearer. What belongs to requests of
    its runs is kept."""
    return _pushed(request, system_id, "traces", traces.keep)


def _pushed(
    request: HttpRequest, system_id: int, what: str, keep: Callable[[System, bytes, str, str], int]
) -> HttpResponse:
    system = System.objects.filter(pk=system_id).first()
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if system is None or scheme.lower() != "bearer" or not rules.is_token(system, token.strip()):
        return problems.problem(401, "Not signed in", "Send the system's token: 'Authorization: Bearer kettle-…'.")
    content_type = request.headers.get("Content-Type", "")
    try:
        keep(system, request.body, content_type, request.headers.get("Content-Encoding", ""))
    except OtlpError as error:
        return problems.problem(400, f"Not OTLP {what}", f"{str(error)[0].upper()}{str(error)[1:]}.")
    if "json" in content_type:
        return HttpResponse("{}", content_type="application/json")
    return HttpResponse(b"", content_type="application/x-protobuf")


def _system(system_id: int) -> System:
    return get_object_or_404(System, pk=system_id)


def _last_run(system: System) -> Run | None:
    """The last run that measured it."""
    return Run.objects.there().filter(system=system, begun_at__isnull=False, simulated=False).first()


def _line(system: System) -> dict[str, Any]:
    document = system.document
    components = document.get("components", [])
    last = _last_run(system)
    return {
        "id": system.pk,
        "name": system.name,
        "base_url": secrecy.hidden(document["base_url"]),
        "components": [component["name"] for component in components],
        "meters": sum(len(component.get("meters", [])) for component in components),
        "archived": system.archived_at is not None,
        "changed_at": system.changed_at,
        "last_run_id": last.pk if last else None,
        "experiments": [{"id": e.pk, "name": e.name} for e in system.experiments.all()],
    }


def _detail(system: System) -> SystemDetail:
    told_at = traces.last_told(system)
    return SystemDetail(
        **_line(system),
        document=secrecy.in_system(system.document, secrecy.hide),
        revision=system.current.pk,
        can_undo=system.can_undo,
        can_redo=system.can_redo,
        token_hint=system.token_hint,
        played=listening.is_played(system),
        traced_at=None if told_at is None else datetime.fromtimestamp(told_at, UTC),
        pins=[PinBody(**pin) for pin in system.pins],
    )


@router.get("/systems/{system_id}/runners", response=RunnersLine)
def get_runners(request: HttpRequest, system_id: int) -> RunnersLine:
    """Who may run on the system."""
    return _runners(_system(system_id))


@router.put("/systems/{system_id}/runners", response=RunnersLine)
def choose_runners(request: HttpRequest, system_id: int, body: RunnersBody) -> RunnersLine:
    """Only these planners may run on it; an empty list: every planner."""
    system = _system(system_id)
    runners.choose(actor_of(request), system, body.people)
    return _runners(system)


def _runners(system: System) -> RunnersLine:
    return RunnersLine(people=runners.names(system), candidates=runners.candidates())


@router.get("/systems/{system_id}/keeping", response=KeepingLine)
def get_keeping(request: HttpRequest, system_id: int) -> KeepingLine:
    """How long the system's runs are kept."""
    return _keeping(_system(system_id))


@router.put("/systems/{system_id}/keeping", response=KeepingLine)
def change_keeping(request: HttpRequest, system_id: int, body: retention.Keeping) -> KeepingLine:
    """Keep the system's runs so long; what is older goes within the hour, unless it is changed back before."""
    system = _system(system_id)
    retention.change(actor_of(request), system, body)
    return _keeping(system)


def _keeping(system: System) -> KeepingLine:
    return KeepingLine(**retention.of(system).model_dump(), going=retention.going(system))
