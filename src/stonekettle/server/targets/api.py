"""The API of targets."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from django.conf import settings
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Field, Router, Schema, Status

from stonekettle.engine.allowance import Allowance
from stonekettle.engine.proof import PATH, RECORD
from stonekettle.plan.models import Plan
from stonekettle.plan.secrecy import hidden
from stonekettle.server.access.roles import actor_of
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.systems.models import System
from stonekettle.server.targets import allowances, rules
from stonekettle.server.targets.models import Target

router = Router(tags=["targets"])
State = Literal["open", "closed", "unproven", "lost", "ended"]


class ClosedHoursBody(Schema):
    """No load from ``start`` to ``end`` (07:00) on these days; an end not after the start is one of the next day."""

    days: list[str] = Field(max_length=7)
    start: str = Field(max_length=10)
    end: str = Field(max_length=10)


class Terms(Schema):
    """``host``: a name, an address or a range; ``ports`` ("443, 8000-8100") and ``scheme`` empty: all. ``users``,
    ``requests`` (per second) and ``connections`` are what it bears at most, of everybody together."""

    host: str = Field(max_length=260)
    ports: str = Field("", max_length=400)
    scheme: str = Field("", max_length=5)
    contact: str = Field(max_length=300)
    reason: str = Field("", max_length=600)
    users: int | None = None
    requests: int | None = None
    connections: int | None = None
    closed: list[ClosedHoursBody] = Field(default_factory=list, max_length=50)
    time_zone: str = Field("UTC", max_length=60)


class TermsBody(Schema):
    """The terms, and of one that an administrator enters when it ends."""

    terms: Terms
    ends_at: datetime | None = None


class TargetLine(Schema):
    """A target; ``text`` says in a sentence how it stands, ``token`` what is to be shown there."""

    id: int
    way: Target.Way
    name: str
    terms: Terms
    ends_at: datetime | None
    state: State
    text: str
    ceilings: str
    addresses: list[str]
    token: str
    proven_at: datetime | None
    looked_at: datetime | None
    fault: str
    made_by: str
    made_at: datetime
    removed: bool


class TargetList(Schema):
    """All targets, where a token is looked for, and the ports of this machine that no load goes to."""

    targets: list[TargetLine]
    proof_path: str
    proof_record: str
    own_ports: list[int]


class TargetUse(Schema):
    """A place a document leads to outside of this machine: whether load may go there now, and by which target."""

    host: str
    port: int
    allowed: bool
    text: str
    target: TargetLine | None


@router.get("/targets", response=TargetList)
def list_targets(request: HttpRequest) -> TargetList:
    return TargetList(
        targets=[_line(target) for target in Target.objects.there()],
        proof_path=PATH,
        proof_record=RECORD,
        own_ports=sorted(settings.OWN_PORTS),
    )


@router.post("/targets/entries", response={201: TargetLine})
def enter_target(request: HttpRequest, body: TermsBody) -> Status[TargetLine]:
    """Load may go there because an administrator says so."""
    made = rules.enter(actor_of(request), body.terms.model_dump(exclude_none=True), body.ends_at)
    return Status(201, _line(made))


@router.post("/targets/claims", response={201: TargetLine})
def claim_target(request: HttpRequest, body: TermsBody) -> Status[TargetLine]:
    """Load may go there once it shows the token that is told here."""
    return Status(201, _line(rules.claim(actor_of(request), body.terms.model_dump(exclude_none=True))))


@router.put("/targets/{target_id}", response=TargetLine)
def change_target(request: HttpRequest, target_id: int, body: TermsBody) -> TargetLine:
    written = body.terms.model_dump(exclude_none=True)
    return _line(rules.change(actor_of(request), _target(target_id), written, body.ends_at))


@router.post("/targets/{target_id}/proof", response=TargetLine)
def prove_target(request: HttpRequest, target_id: int) -> TargetLine:
    """Look for the token now."""
    target = _target(target_id)
    rules.look(actor_of(request), target)
    target.refresh_from_db()
    return _line(target)


@router.delete("/targets/{target_id}", response=TargetLine)
def remove_target(request: HttpRequest, target_id: int) -> TargetLine:
    """No load may go there any more; runs that load it end."""
    rules.remove(actor_of(request), _target(target_id))
    return _line(_target(target_id))


@router.post("/targets/{target_id}/restore", response=TargetLine)
def restore_target(request: HttpRequest, target_id: int) -> TargetLine:
    """A target that was removed is there again."""
    rules.bring_back(actor_of(request), _target(target_id))
    return _line(_target(target_id))


@router.get("/systems/{system_id}/targets", response=list[TargetUse])
def targets_of_system(request: HttpRequest, system_id: int) -> list[TargetUse]:
    """Where the system is outside of this machine, and whether it may be loaded and asked there."""
    return _uses(get_object_or_404(System, pk=system_id).description.addresses)


@router.get("/experiments/{experiment_id}/targets", response=list[TargetUse])
def targets_of_experiment(request: HttpRequest, experiment_id: int) -> list[TargetUse]:
    """Where a run would go outside of this machine, and whether it may."""
    plan: Plan = experiments.current_plan(get_object_or_404(Experiment, pk=experiment_id))
    return _uses(plan.addresses)


def _uses(addresses: allowances.Addresses) -> list[TargetUse]:
    found = allowances.places(addresses)
    targets = allowances.named(found)
    allowance = allowances.current(addresses)
    return [_use(place, targets, allowance) for place in found if not _is_here(place)]


def _is_here(place: allowances.Place) -> bool:
    """Whether it is this machine, where load may go anyway."""
    only_loopback = Allowance(own_ports=settings.OWN_PORTS)
    return bool(place.addresses) and all(only_loopback.refusal(a, place.port) is None for a in place.addresses)


def _use(place: allowances.Place, targets: list[Target], allowance: Allowance) -> TargetUse:
    of_place = [target for target in targets if place.is_in(target)]
    ready = next((target for target in of_place if target.why_not() is None), None)
    target = ready or next(iter(of_place), None)
    faults = [f"{one} {why}" for one in place.addresses if (why := allowance.refusal(one, place.port)) is not None]
    text = ""
    if target is not None and ready is None:
        text = f"{target.told.host} {target.why_not()}."
    elif not place.addresses:
        text = "Its name cannot be found from here."
    elif faults:
        text = f"{faults[0]}."
    return TargetUse(
        host=hidden(place.host),
        port=place.port,
        allowed=not text,
        text=text,
        target=None if target is None else _line(target),
    )


def _target(target_id: int) -> Target:
    return get_object_or_404(Target, pk=target_id)


def _line(target: Target) -> TargetLine:
    told = target.told
    state, text = _state(target)
    return TargetLine(
        id=target.pk,
        way=Target.Way(target.way),
        name=target.name,
        terms=Terms.model_validate(told.model_dump(mode="json")),
        ends_at=target.ends_at,
        state=state,
        text=text,
        ceilings=told.ceilings,
        addresses=target.addresses,
        token=target.token,
        proven_at=target.proven_at,
        looked_at=target.looked_at,
        fault=target.fault,
        made_by=target.made_by,
        made_at=target.made_at,
        removed=target.removed_at is not None,
    )


def _state(target: Target) -> tuple[State, str]:
    why = target.why_not()
    if why is None:
        return "open", "Load may go there."
    text = f"No load goes there: it {why.rstrip('.')}."
    if target.way == Target.Way.PROVEN and target.proven_at is None:
        return "unproven", text if not target.fault else f"{text} {target.fault}"
    if target.way == Target.Way.PROVEN and (target.lost or "could not be proven" in why):
        return "lost", text
    if target.removed_at is not None or (target.ends_at is not None and timezone.now() >= target.ends_at):
        return "ended", text
    return "closed", text
