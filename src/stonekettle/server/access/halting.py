"""The halt: a word that ends all load, everywhere, and keeps it off until it is lifted.

It stops nobody by itself. It is a fact that everything looks at which makes load: what would begin load asks it first,
conductors and trials several times a second, and the owner of each generator, who cuts its load off.
"""

from __future__ import annotations

from django.utils import timezone

from stonekettle.server.access.models import Halt
from stonekettle.server.access.roles import Actor, Forbidden, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.problems import Conflict


def in_force() -> Halt | None:
    return Halt.objects.filter(lifted_at=None).first()


def check() -> None:
    """Raises :class:`Conflict` while there is a halt."""
    if (halt := in_force()) is not None:
        raise Conflict(f"{halt.words} Until it is lifted, nothing makes load.")


def may_lift(actor: Actor, halt: Halt) -> bool:
    return actor.may(Role.ADMINISTRATOR) or actor.name == halt.by


@act("halted", Role.PLANNER)
def halt(account: Account, why: str) -> Halt:
    """End all load and keep it off. Where there is a halt already, that one stands."""
    found, made = Halt.objects.get_or_create(lifted_at=None, defaults={"by": account.actor.name, "why": why})
    if made:
        account.about("halt", found.pk, "all load", note=why)
    return found


@act("lifted the halt of", Role.PLANNER)
def lift(account: Account) -> None:
    """Load may be made again; what was ended stays so."""
    found = Halt.objects.select_for_update().filter(lifted_at=None).first()
    if found is None:
        return
    if not may_lift(account.actor, found):
        raise Forbidden(f"Only {found.by}, who halted it, or an administrator may lift this.")
    found.lifted_at, found.lifted_by = timezone.now(), account.actor.name
    found.save(update_fields=["lifted_at", "lifted_by"])
    account.about("halt", found.pk, "all load", note=f"halted by {found.by}")
