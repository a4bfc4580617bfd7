"""What may happen to people: invited, given a role, locked out, a new password."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.access import sessions
from stonekettle.server.access.models import Invitation, Person
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act, tell
from stonekettle.server.problems import Conflict

MOST_OPEN = 200
"""So many invitations may be open at once."""


def create(name: str, password: str | None, role: Role) -> User:
    """A person with a role; without a password they cannot sign in. Raises :class:`PlanError` for a name that is taken
    or unusable, and for a weak password."""
    user = User(username=name)
    try:
        User._meta.get_field("username").clean(name, user)
    except ValidationError as error:
        mend = "Use at most 150 letters, digits and @ . + - _, without spaces."
        raise PlanError([Problem("name", " ".join(error.messages), mend)]) from error
    if User.objects.filter(username__iexact=name).exists():
        raise PlanError([Problem("name", f"there is somebody named {name} already.", "Choose another name.")])
    if password is not None:
        _check_password(password, user)
    user.set_password(password)
    user.save()
    Person.objects.create(user=user, role=role)
    return user


def _check_password(password: str, user: User) -> None:
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise PlanError([Problem("password", text, "Choose another one.") for text in error.messages]) from error


@act("invited", Role.ADMINISTRATOR)
def invite(account: Account, note: str, role: Role, days: int) -> tuple[Invitation, str]:
    """An invitation for ``days``, and the token of its link, which is not kept."""
    if Invitation.objects.filter(expires_at__gt=timezone.now()).count() >= MOST_OPEN:
        raise Conflict(f"{MOST_OPEN} invitations are open already. Withdraw some first.")
    token = secrets.token_urlsafe(32)
    invitation = Invitation.objects.create(
        digest=_digest(token),
        note=note,
        role=role,
        invited_by=account.actor.name,
        expires_at=timezone.now() + timedelta(days=days),
    )
    account.about("invitation", invitation.pk, note, note=f"as {role.value}, for {days} days")
    return invitation, token


@act("withdrew", Role.ADMINISTRATOR)
def withdraw(account: Account, invitation: Invitation) -> None:
    """The link of an invitation is worth nothing from now on."""
    account.about("invitation", invitation.pk, invitation.note)
    invitation.delete()


def invitation_of(token: str) -> Invitation:
    """The open invitation of a link."""
    found = Invitation.objects.filter(digest=_digest(token), expires_at__gt=timezone.now()).first()
    if found is None:
        raise Conflict("This invitation was used, withdrawn, or is past its time. Ask for another one.")
    return found


@transaction.atomic
def accept(token: str, name: str, password: str, address: str) -> User:
    """Become a person by an invitation's link."""
    invitation = Invitation.objects.select_for_update().filter(pk=invitation_of(token).pk).first()
    if invitation is None:
        raise Conflict("This invitation was used a moment ago.")
    user = create(name, password, Role(invitation.role))
    note = f"invited by {invitation.invited_by}"
    tell(Actor.of(user, address), "joined as", "invitation", invitation.pk, invitation.note, note=note)
    invitation.delete()
    return user


@act("gave a role to", Role.ADMINISTRATOR)
def give_role(account: Account, person: Person, role: Role) -> None:
    """From now on they may what the role may."""
    if person.role == role:
        return
    _keep_an_administrator(person)
    account.about("person", person.pk, person.user.get_username())
    account.changed({"role": person.role}, {"role": role.value})
    person.role = role
    person.save(update_fields=["role"])


@act("locked out", Role.ADMINISTRATOR)
def lock_out(account: Account, person: Person) -> None:
    """They cannot sign in any more, and are signed out everywhere; what they did stays."""
    _keep_an_administrator(person)
    if not person.user.is_active:
        return
    account.about("person", person.pk, person.user.get_username())
    person.user.is_active = False
    person.user.save(update_fields=["is_active"])
    sessions.end_all(person.user)


@act("let in again", Role.ADMINISTRATOR)
def let_in(account: Account, person: Person) -> None:
    if person.user.is_active:
        return
    account.about("person", person.pk, person.user.get_username())
    person.user.is_active = True
    person.user.save(update_fields=["is_active"])


@act("reset the password of", Role.ADMINISTRATOR)
def reset_password(account: Account, person: Person) -> str:
    """A password by chance, told once: with it they can do nothing but choose their own."""
    password = secrets.token_urlsafe(12)
    account.about("person", person.pk, person.user.get_username())
    person.user.set_password(password)
    person.user.save(update_fields=["password"])
    person.must_change = True
    person.save(update_fields=["must_change"])
    sessions.end_all(person.user)
    return password


@act("changed the password of", Role.READER)
def change_password(account: Account, present: str, wanted: str) -> User:
    """One's own."""
    user = account.actor.user
    if user is None:
        raise Conflict("Only a person has a password.")
    if not user.check_password(present):
        raise PlanError([Problem("present", "this is not your password.", "Write the one you signed in with.")])
    if present == wanted:
        raise PlanError([Problem("password", "this is the password you have.", "Choose another one.")])
    _check_password(wanted, user)
    user.set_password(wanted)
    user.save(update_fields=["password"])
    Person.objects.filter(user=user).update(must_change=False)
    account.about("person", Person.objects.get(user=user).pk, user.get_username())
    return user


def _keep_an_administrator(person: Person) -> None:
    others = Person.objects.select_for_update().filter(role=Role.ADMINISTRATOR, user__is_active=True)
    if person.role == Role.ADMINISTRATOR and not others.exclude(pk=person.pk).exists():
        raise Conflict(
            f"{person.user.get_username()} is the only administrator. Give that role to somebody else first."
        )


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
