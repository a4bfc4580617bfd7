"""Who may use the API at all: whoever is signed in, and has no password to change first."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.http import HttpRequest
from ninja.security import SessionAuth

from stonekettle.server.access.models import Person
from stonekettle.server.access.roles import Forbidden

BEFORE_CHANGING = ("/api/password", "/api/sign-out")
"""What somebody may do whose password was reset."""


class SignedIn(SessionAuth):
    def authenticate(self, request: HttpRequest, key: str | None) -> User | None:
        user = request.user
        if not isinstance(user, User) or not user.is_active:
            return None
        person: Person | None = getattr(user, "person", None)
        if person is not None and person.must_change and request.path not in BEFORE_CHANGING:
            raise Forbidden("Your password was reset. Choose your own before anything else.")
        return user
