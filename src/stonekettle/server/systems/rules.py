"""What may happen to a system."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from stonekettle.engine.targets import check_allowed
from stonekettle.plan import system_document
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.system import System as Description
from stonekettle.server.problems import Conflict
from stonekettle.server.systems.models import System, SystemRevision

NEW_NAME = "New system"
NEW_BASE_URL = "http://127.0.0.1:8000"


def checked(document: object) -> Description:
    """A valid description with allowed addresses. Raises :class:`PlanError` with every problem."""
    description = system_document.from_document(document)
    forbidden = check_allowed(description.addresses)
    if forbidden:
        raise PlanError(Problem(e.path, e.message, e.mend) for e in forbidden)
    return description


@transaction.atomic
def create(document: Mapping[str, Any] | None, author: User | None) -> System:
    """A system from a document, or an empty one."""
    if document is None:
        document = {"name": _free_name(NEW_NAME), "base_url": NEW_BASE_URL}
    description = checked(document)
    _check_name(description.name, None)
    system = System.objects.create(name=description.name)
    _keep(system, 1, system_document.to_document(description), author)
    return system


@transaction.atomic
def save(system: System, document: Mapping[str, Any], author: User | None) -> System:
    """A new revision after the one in force; what had been undone is gone then."""
    system = System.objects.select_for_update().get(pk=system.pk)
    if system.archived_at is not None:
        raise Conflict(f"{system.name} is archived. Bring it back before you change it.")
    before = system.current.document
    description = checked(system_document.with_kept_secrets(document, before))
    after = system_document.to_document(description)
    if after == before:
        return system
    _check_name(description.name, system)
    system.revisions.filter(number__gt=system.position).delete()
    _keep(system, system.position + 1, after, author)
    return _move(system, system.position + 1)


@transaction.atomic
def undo(system: System) -> System:
    system = System.objects.select_for_update().get(pk=system.pk)
    if system.position <= 1:
        raise Conflict("There is nothing to undo.")
    return _move(system, system.position - 1)


@transaction.atomic
def redo(system: System) -> System:
    system = System.objects.select_for_update().get(pk=system.pk)
    if not system.revisions.filter(number=system.position + 1).exists():
        raise Conflict("There is nothing to redo.")
    return _move(system, system.position + 1)


@transaction.atomic
def duplicate(system: System, author: User | None) -> System:
    """A copy with its credentials, under a free name, with an undo history of its own."""
    document = {**system.current.document, "name": _free_name(f"{system.name} copy")}
    copy = System.objects.create(name=document["name"], pins=system.pins)
    _keep(copy, 1, document, author)
    return copy


def archive(system: System, archived: bool) -> None:
    """Out of the way, or back again; runs and experiments keep what they have."""
    System.objects.filter(pk=system.pk).update(archived_at=timezone.now() if archived else None)


def new_token(system: System) -> str:
    """A fresh token for pushing metrics; the one before is worth nothing any more."""
    token = f"kettle-{secrets.token_urlsafe(24)}"
    System.objects.filter(pk=system.pk).update(token_digest=_digest(token), token_hint=token[-4:])
    return token


def is_token(system: System, token: str) -> bool:
    return bool(system.token_digest) and secrets.compare_digest(system.token_digest, _digest(token))


def find(name: str) -> Mapping[str, Any] | None:
    """The document in force of the system of this name."""
    system = System.objects.filter(name=name).first()
    return system.current.document if system else None


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _keep(system: System, number: int, document: Mapping[str, Any], author: User | None) -> None:
    SystemRevision.objects.create(system=system, number=number, document=document, author=author)


def _move(system: System, position: int) -> System:
    """Put a revision in force; experiments that name the system follow its new name."""
    name = system.revisions.get(number=position).document["name"]
    if name != system.name:
        _check_name(name, system)
        _rename_in_experiments(system, name)
    system.position, system.name = position, name
    system.save()
    return system


def _rename_in_experiments(system: System, name: str) -> None:
    from stonekettle.server.experiments import rules as experiments

    experiments.rename_system(system, name)


def _check_name(name: str, own: System | None) -> None:
    taken = System.objects.filter(name=name).first()
    if taken is not None and taken != own:
        raise PlanError([Problem("name", f"there is a system named {name!r} already.", "Choose another name.")])


def _free_name(wanted: str) -> str:
    names = set(System.objects.filter(name__startswith=wanted[:70]).values_list("name", flat=True))
    for number in range(1, len(names) + 2):
        name = f"{wanted[:70]} {number}" if number > 1 else wanted[:76]
        if name not in names:
            return name
    raise AssertionError("one of so many names is free")
