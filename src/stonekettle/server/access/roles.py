"""What kinds of people there are, and who is acting now."""

from __future__ import annotations

import logging
from dataclasses import dataclass, replace

from django.contrib.auth.models import User
from django.db import models
from django.http import HttpRequest

log = logging.getLogger(__name__)


class Role(models.TextChoices):
    """Each may what the one before it may, and more."""

    READER = "reader"
    PLANNER = "planner"
    ADMINISTRATOR = "administrator"

    @property
    def rank(self) -> int:
        return list(Role).index(self)


class Forbidden(Exception):
    """Somebody asked for what their role may not do; the message says who may."""


@dataclass(frozen=True)
class Actor:
    """Who acts: a person, or a part of Stone Kettle itself (``user`` is None), and from which ``address``."""

    name: str
    role: Role
    user: User | None = None
    address: str = ""

    @classmethod
    def of(cls, user: User | None, address: str = "") -> Actor:
        """A person as they are now: who has been locked out or reads only since they asked is that."""
        if user is None or not user.is_active:
            raise Forbidden("Whoever asked for this has no account any more.")
        return cls(user.get_username(), role_of(user), user, address)

    @classmethod
    def itself(cls, part: str) -> Actor:
        """A part of Stone Kettle that acts by itself, by the name that people know it by."""
        return cls(part, Role.ADMINISTRATOR)

    def may(self, needs: Role) -> bool:
        return self.role.rank >= needs.rank

    def check(self, needs: Role) -> None:
        """Raises :class:`Forbidden` where they may not."""
        if not self.may(needs):
            log.warning("%s (%s) was refused what needs a %s", self.name, self.role.value, needs.value)
            who = f"{needs.value}s" if needs is Role.ADMINISTRATOR else f"{needs.value}s and administrators"
            raise Forbidden(f"Only {who} may do this, and you are a {self.role.value}. Ask an administrator.")


def role_of(user: User) -> Role:
    """A user whom nobody gave a role reads."""
    person = getattr(user, "person", None)
    return Role(person.role) if person is not None else Role.READER


def limit_to(request: HttpRequest, role: str, by: str) -> None:
    """Whoever asks this may no more than a role, and does it ``by`` something: a token."""
    request.META["kettle.limit"] = (Role(role), by)


def actor_of(request: HttpRequest) -> Actor:
    """Who is signed in, or shows a token."""
    user = request.user
    actor = Actor.of(user if isinstance(user, User) else None, request.META.get("REMOTE_ADDR", ""))
    if (limit := request.META.get("kettle.limit")) is None:
        return actor
    role, by = limit
    least = min(role, actor.role, key=lambda one: one.rank)
    return replace(actor, role=least, address=f"{actor.address}, {by}")
