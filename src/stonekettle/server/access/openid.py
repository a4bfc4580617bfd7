"""Signing in by OpenID Connect: another service says who somebody is, and nothing of what they may here.

It knows people by an identity (issuer and subject), which is theirs once they signed in by it or connected it on their
own page; a name alone connects nobody.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Any

from authlib.integrations.base_client.errors import OAuthError
from authlib.integrations.django_client import OAuth
from django.conf import settings
from django.contrib.auth.models import User
from django.http import Http404, HttpRequest, HttpResponse
from joserfc.errors import JoseError
from requests import RequestException

from stonekettle.plan.problems import PlanError
from stonekettle.server.access import people
from stonekettle.server.access.models import Identity
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.problems import Conflict

TIMEOUT_S = 6
CONNECTS = "openid_connects"
"""Who in this session is about to connect an identity."""
RETURN = "/api/openid/return"


class Refused(Exception):
    """Nobody was signed in; the message is the word that the page explains."""


def name() -> str | None:
    """What the other service is called; None where there is none."""
    return settings.OPENID_NAME if settings.OPENID_ISSUER else None


def begin(request: HttpRequest) -> HttpResponse:
    """Send the browser there."""
    base = settings.PUBLIC or f"{request.scheme}://{request.get_host()}"
    try:
        answer: HttpResponse = _provider().authorize_redirect(request, f"{base}{RETURN}")
    except (OAuthError, RequestException, ValueError) as error:
        raise Refused("away") from error
    return answer


def returned(request: HttpRequest) -> User:
    """Who came back, by what the other service signed. Raises :class:`Refused`."""
    try:
        claims = _provider().authorize_access_token(request).get("userinfo") or {}
    except OAuthError as error:
        raise Refused("cancelled" if error.error == "access_denied" else "failed") from error
    except (RequestException, JoseError, ValueError, KeyError) as error:
        raise Refused("failed") from error
    if not claims.get("sub"):
        raise Refused("failed")
    connecting = request.session.pop(CONNECTS, None)
    if connecting is not None and request.user.is_authenticated and request.user.pk == connecting:
        return _connected(Actor.of(request.user), claims)
    return _known(claims) or _newcomer(claims)


def disconnect(actor: Actor) -> None:
    """One's account goes by its password only, which it must have."""
    if actor.user is None or not actor.user.has_usable_password():
        raise Conflict("You have no password here. Ask an administrator for one before you take this away.")
    _disconnect(actor)


@act("took away a sign-in", Role.READER)
def _disconnect(account: Account) -> None:
    user = account.actor.user
    if Identity.objects.filter(user=user, issuer=settings.OPENID_ISSUER).delete()[0]:
        account.about("person", None, account.actor.name, note=f"by {settings.OPENID_NAME}")


def is_connected(user: User) -> bool:
    return Identity.objects.filter(user=user, issuer=settings.OPENID_ISSUER).exists()


@act("connected a sign-in", Role.READER)
def _connected(account: Account, claims: Mapping[str, Any]) -> User:
    user = account.actor.user
    assert user is not None  # a person is signed in
    known = _known(claims)
    if known is not None and known != user:
        raise Refused("others")
    if known is None:
        Identity.objects.create(user=user, issuer=settings.OPENID_ISSUER, subject=claims["sub"][:200])
        account.about("person", None, account.actor.name, note=f"by {settings.OPENID_NAME}")
    return user


def _known(claims: Mapping[str, Any]) -> User | None:
    identity = Identity.objects.filter(issuer=settings.OPENID_ISSUER, subject=claims["sub"][:200]).first()
    if identity is None:
        return None
    if not identity.user.is_active:
        raise Refused("locked")
    return identity.user


def _newcomer(claims: Mapping[str, Any]) -> User:
    if not settings.OPENID_ROLE:
        raise Refused("unknown")
    return _join(Actor.itself(settings.OPENID_NAME), claims)


@act("let in", Role.ADMINISTRATOR)
def _join(account: Account, claims: Mapping[str, Any]) -> User:
    """Somebody new, with the role that the installation gives to such people. A name that is somebody's already is not
    theirs because another service calls them so."""
    wanted = str(claims.get("preferred_username") or claims.get("email") or claims["sub"])
    try:
        user = people.create(wanted, None, Role(settings.OPENID_ROLE))
    except PlanError as error:
        raise Refused("taken") from error
    Identity.objects.create(user=user, issuer=settings.OPENID_ISSUER, subject=claims["sub"][:200])
    account.about("person", None, user.get_username(), note=f"as {settings.OPENID_ROLE}")
    return user


def _provider() -> Any:
    if not settings.OPENID_ISSUER:
        raise Http404
    return _registered(settings.OPENID_ISSUER, settings.OPENID_CLIENT, settings.OPENID_SECRET)


@lru_cache(maxsize=4)
def _registered(issuer: str, client: str, secret: str) -> Any:
    """The service as it describes itself; it is asked once."""
    oauth = OAuth()
    return oauth.register(
        "provider",
        client_id=client,
        client_secret=secret,
        server_metadata_url=f"{issuer.rstrip('/')}/.well-known/openid-configuration",
        client_kwargs={
            "scope": "openid profile email",
            "code_challenge_method": "S256",
            "default_timeout": TIMEOUT_S,
        },
    )
