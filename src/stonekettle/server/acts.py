"""Acts: every way to change something is one of them, whoever asks, by page, command or task.

An act holds what belongs to a change: who may do it, that it happens as a whole or not at all, and what the history
tells of it. A function becomes one by :func:`act`; it is called with the one who acts first, and its own first argument
is the :class:`Account` of it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Concatenate, Generic, ParamSpec, TypeVar

from django.db import transaction

from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.history import differences
from stonekettle.server.history.models import Deed

P = ParamSpec("P")
R = TypeVar("R")


@dataclass
class Account:
    """What there is to tell of an act; of one that does not say what it was done to, nothing was done."""

    actor: Actor
    did: str
    _about: dict[str, Any] = field(default_factory=dict)

    def about(
        self, kind: str, object_id: int | None, name: str, *, revision: int | None = None, note: str = ""
    ) -> None:
        """What it was done to."""
        self._about |= {
            "kind": kind,
            "object_id": object_id,
            "object_name": name[:200],
            "revision": revision,
            "note": note,
        }

    def changed(self, before: Any, after: Any) -> None:
        """What was before and is after it, secrets hidden."""
        self._about["changes"] = differences.between(before, after)

    def write(self) -> None:
        if "kind" not in self._about:
            return
        actor = self.actor
        Deed.objects.create(
            who=actor.name, role=actor.role.value, address=actor.address[:60], did=self.did, **self._about
        )


class Act(Generic[P, R]):
    """A way to change something: ``did`` is what the history says, ``needs`` the least role."""

    def __init__(self, did: str, needs: Role, function: Callable[Concatenate[Account, P], R]) -> None:
        self.did, self.needs, self._function = did, needs, function

    def __call__(self, actor: Actor, *args: P.args, **kwargs: P.kwargs) -> R:
        actor.check(self.needs)
        with transaction.atomic():
            account = Account(actor, self.did)
            result = self._function(account, *args, **kwargs)
            account.write()
        return result


def act(did: str, needs: Role) -> Callable[[Callable[Concatenate[Account, P], R]], Act[P, R]]:
    """Makes a function an act."""

    def made(function: Callable[Concatenate[Account, P], R]) -> Act[P, R]:
        return Act(did, needs, function)

    return made


def tell(actor: Actor, did: str, kind: str, object_id: int | None, name: str, *, note: str = "") -> None:
    """Something that changes nothing here and is told all the same: a sign-in, an export."""
    account = Account(actor, did)
    account.about(kind, object_id, name, note=note)
    account.write()
