"""What may happen to a system."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping, Sequence
from typing import Any

from django.db import transaction

from stonekettle.engine.targets import check_never
from stonekettle.plan import secrecy, system_document
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.drafts import Document, Drafts
from stonekettle.server.systems import listening
from stonekettle.server.systems.models import System

PRACTICE_SYSTEM = "the practice system"
NEW_NAME = "New system"
NEW_BASE_URL = "http://127.0.0.1:8000"


def checked(document: Document, before: Document | None) -> dict[str, Any]:
    """A valid document without addresses that nothing is ever sent to; a secret that was not shown stays what it
    was before. Raises :class:`PlanError` with every problem."""
    whole = secrecy.restored(secrecy.in_system, document, before)
    description = system_document.from_document(whole)
    forbidden = check_never(description.addresses)
    if forbidden:
        raise PlanError(Problem(e.path, e.message, e.mend) for e in forbidden)
    return system_document.to_document(description)


drafts = Drafts(System, "system", checked, secrecy.in_system)


def create(actor: Actor, document: Mapping[str, Any] | None) -> System:
    """A system from a document, or an empty one."""
    return drafts.create(actor, document or {"name": drafts.free_name(NEW_NAME), "base_url": NEW_BASE_URL})


@transaction.atomic
def duplicate(actor: Actor, system: System) -> System:
    """A copy with its credentials and pins."""
    copy = drafts.duplicate(actor, system)
    System.objects.filter(pk=copy.pk).update(pins=system.pins)
    return copy


@act("made a new token for", Role.PLANNER)
def new_token(account: Account, system: System) -> str:
    """A fresh token for pushing metrics and traces; the one before is worth nothing any more. The practice system
    takes it over by itself."""
    token = f"kettle-{secrets.token_urlsafe(24)}"
    System.objects.filter(pk=system.pk).update(token_digest=_digest(token), token_hint=token[-4:])
    if listening.is_played(system):
        transaction.on_commit(lambda: listening.tell(system, token))
    account.about("system", system.pk, system.name)
    return token


def let_tell(system: System) -> None:
    """Let the practice system tell of single requests, where it is this one and nobody has made a token for that."""
    if listening.is_played(system) and not system.token_digest:
        new_token(Actor.itself(PRACTICE_SYSTEM), system)


@act("changed the figures shown of", Role.PLANNER)
def pin(account: Account, system: System, pins: Sequence[Mapping[str, Any]]) -> None:
    """What the system's plates show beside its resources."""
    System.objects.filter(pk=system.pk).update(pins=list(pins))
    account.about("system", system.pk, system.name)
    account.changed(system.pins, list(pins))


def is_token(system: System, token: str) -> bool:
    return bool(system.token_digest) and secrets.compare_digest(system.token_digest, _digest(token))


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
