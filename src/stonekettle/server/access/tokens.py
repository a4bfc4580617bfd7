"""Personal tokens: what a script shows instead of a session, as its owner and never more than they may."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from django.contrib.auth.models import User
from django.utils import timezone

from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.access.models import PersonalToken
from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.problems import Conflict

PREFIX = "kettle-me-"
MOST = 20
"""So many one person may have at once."""
NOTED_EVERY = timedelta(minutes=1)


@act("made a token", Role.READER)
def make(account: Account, name: str, role: Role, days: int) -> tuple[PersonalToken, str]:
    """A token of one's own for ``days``, and its text, which is not kept."""
    user = account.actor.user
    if user is None:
        raise Conflict("Only a person has tokens.")
    if not account.actor.may(role):
        mend = f"Choose {account.actor.role.value}, or less."
        raise PlanError([Problem("role", f"you are no {role.value} yourself.", mend)])
    own = PersonalToken.objects.filter(user=user)
    if own.filter(expires_at__gt=timezone.now()).count() >= MOST:
        raise Conflict(f"You have {MOST} tokens already. Withdraw one first.")
    if own.filter(name=name).exists():
        raise PlanError([Problem("name", f"you have a token named {name!r} already.", "Choose another name.")])
    text = PREFIX + secrets.token_urlsafe(32)
    made = PersonalToken.objects.create(
        user=user, name=name, role=role, digest=_digest(text), expires_at=timezone.now() + timedelta(days=days)
    )
    account.about("token", made.pk, name, note=f"as {role.value}, for {days} days")
    return made, text


@act("withdrew the token", Role.READER)
def withdraw(account: Account, token: PersonalToken) -> None:
    """It opens nothing from now on."""
    account.about("token", token.pk, token.name)
    token.delete()


def owner_of(text: str) -> tuple[User, PersonalToken] | None:
    """Whose token this is; None for one that is unknown, withdrawn or past its time, or whose owner is locked out."""
    found = PersonalToken.objects.select_related("user__person").filter(digest=_digest(text)).first()
    now = timezone.now()
    if found is None or found.expires_at <= now or not found.user.is_active:
        return None
    if found.used_at is None or now - found.used_at > NOTED_EVERY:
        PersonalToken.objects.filter(pk=found.pk).update(used_at=now)
    return found.user, found


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()
