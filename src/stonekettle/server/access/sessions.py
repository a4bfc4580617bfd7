"""Who may use the API at all: whoever is signed in or shows a token, and has no password to change first."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from django.contrib.auth.models import User
from django.contrib.sessions.backends.cached_db import SessionStore
from django.contrib.sessions.models import Session
from django.http import HttpRequest
from django.utils import timezone
from ninja.errors import AuthenticationError
from ninja.security import HttpBearer, SessionAuth

from stonekettle.server.access import tokens
from stonekettle.server.access.models import Person
from stonekettle.server.access.roles import Forbidden, limit_to

BEFORE_CHANGING = ("/api/password", "/api/sign-out")
"""What somebody may do whose password was reset."""
NOT_BY_TOKEN = (
    "/api/password",
    "/api/sign-out",
    "/api/tokens",
    "/api/sessions",
    "/api/people",
    "/api/invitations",
    "/api/openid",
)
"""Who may come in is decided by people who are signed in."""


def _has_to_change(user: User) -> bool:
    person: Person | None = getattr(user, "person", None)
    return person is not None and person.must_change


class SignedIn(SessionAuth):
    def authenticate(self, request: HttpRequest, key: str | None) -> User | None:
        user = request.user
        if not isinstance(user, User) or not user.is_active:
            return None
        if _has_to_change(user) and request.path not in BEFORE_CHANGING:
            raise Forbidden("Your password was reset. Choose your own before anything else.")
        return user


class ByToken(HttpBearer):
    def authenticate(self, request: HttpRequest, token: str) -> User:
        found = tokens.owner_of(token)
        if found is None:
            raise AuthenticationError
        user, shown = found
        if _has_to_change(user):
            raise Forbidden("Your password was reset. Sign in and choose your own before anything else.")
        if request.path.startswith(NOT_BY_TOKEN):
            raise Forbidden("This cannot be done with a token. Sign in.")
        request.user = user
        limit_to(request, shown.role, f"token {shown.name}")
        return user


def of(user: User) -> Iterator[tuple[Session, dict[str, Any]]]:
    """Somebody's sessions that have not ended, with what was noted when they began."""
    for session in Session.objects.filter(expire_date__gt=timezone.now()).order_by("-expire_date"):
        told = session.get_decoded()
        if told.get("_auth_user_id") == str(user.pk):
            yield session, told


def end_all(user: User, but: str | None = None) -> int:
    """Sign somebody out everywhere, or everywhere ``but`` in the session of this key; how many ended."""
    ended = [session for session, _ in of(user) if session.session_key != but]
    for session in ended:
        # By its store, which remembers it too.
        SessionStore(session.session_key).delete()
    return len(ended)
