"""Signing in and out, one's own page, and people."""

from __future__ import annotations

import time
from datetime import datetime
from typing import Any

from django.conf import settings
from django.contrib import auth
from django.contrib.auth.models import User
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.middleware.csrf import get_token
from django.shortcuts import get_object_or_404
from django.utils import timezone
from django.views.decorators.csrf import csrf_protect
from ninja import Field, Router, Schema, Status
from ninja.errors import HttpError

from stonekettle.server.access import halting, limits, openid, people, sessions, tokens, waiting
from stonekettle.server.access.models import Invitation, Person, PersonalToken
from stonekettle.server.access.roles import Actor, Role, actor_of, role_of
from stonekettle.server.acts import tell

router = Router(tags=["access"])
WRONG_SIGN_IN_DELAY_S = 0.5
MOST_DAYS = 30
MOST_TOKEN_DAYS = 365


class SignIn(Schema):
    name: str = Field(max_length=150)
    password: str = Field(max_length=500)


class Me(Schema):
    """Who is signed in; ``name`` is None when nobody is. Who ``must_change`` their password can do nothing before.
    ``outside`` is the other service by which one may sign in."""

    name: str | None
    role: Role | None = None
    must_change: bool = False
    outside: str | None = None


class NewPassword(Schema):
    present: str = Field(max_length=500)
    password: str = Field(max_length=500)


class PersonLine(Schema):
    """A person as a line; who is not ``active`` is locked out."""

    id: int
    name: str
    role: Role
    active: bool
    must_change: bool
    joined_at: datetime
    signed_in_at: datetime | None


class RoleBody(Schema):
    role: Role


class InvitationLine(Schema):
    id: int
    note: str
    role: Role
    invited_by: str
    expires_at: datetime


class Invited(InvitationLine):
    """A new invitation with the ``token`` of its link, which is told once."""

    token: str


class NewInvitation(Schema):
    """``note`` says for whom it is."""

    note: str = Field(min_length=1, max_length=200)
    role: Role
    days: int = Field(default=7, ge=1, le=MOST_DAYS)


class Welcome(Schema):
    """What an invitation's link is for."""

    role: Role
    invited_by: str
    expires_at: datetime


class Password(Schema):
    """A password that is told once."""

    password: str


@router.get("/me", response=Me, auth=None)
def me(request: HttpRequest) -> Me:
    """Who is signed in. Also hands out the CSRF cookie every change needs."""
    get_token(request)
    return _me(request.user if isinstance(request.user, User) else None)


@router.post("/sign-in", response=Me, auth=None, throttle=[limits.WAYS_IN])
def sign_in(request: HttpRequest, body: SignIn) -> Me:
    _check_page(request)
    request.META[waiting.NAME] = body.name
    user = auth.authenticate(request, username=body.name, password=body.password)
    if getattr(request, "axes_locked_out", False):
        wait = waiting.cool_off(request)
        minutes = f"{wait.total_seconds() / 60:.0f} min"
        raise HttpError(429, f"The password was wrong too often. Try again {minutes} after the last wrong one.")
    if user is None:
        address = request.META.get("REMOTE_ADDR", "")
        tell(Actor(body.name[:150], Role.READER, None, address), "was refused at", "sign-in", None, body.name[:150])
        time.sleep(WRONG_SIGN_IN_DELAY_S)
        raise HttpError(400, "The name or the password is wrong.")
    return _signed_in(request, user)


class Outside(Schema):
    """The other service by which one may sign in; ``name`` is None where there is none."""

    name: str | None
    connected: bool


@router.get("/openid", response=Outside)
def get_openid(request: HttpRequest) -> Outside:
    user = actor_of(request).user
    return Outside(name=openid.name(), connected=user is not None and openid.is_connected(user))


@router.post("/openid", response=Outside)
def connect_openid(request: HttpRequest) -> Outside:
    """What comes back next from the other service is to be one's own."""
    user = actor_of(request).user
    request.session[openid.CONNECTS] = user.pk if user else None
    return get_openid(request)


@router.delete("/openid", response=Outside)
def disconnect_openid(request: HttpRequest) -> Outside:
    openid.disconnect(actor_of(request))
    return get_openid(request)


@router.get("/openid/begin", auth=None, throttle=[limits.WAYS_IN])
def begin_openid(request: HttpRequest) -> HttpResponse:
    """Lead the browser to the other service."""
    try:
        return openid.begin(request)
    except openid.Refused as refused:
        return HttpResponseRedirect(f"/sign-in?refused={refused}")


@router.get("/openid/return", auth=None, throttle=[limits.WAYS_IN])
def return_openid(request: HttpRequest) -> HttpResponse:
    """The browser comes back, with what the other service says."""
    here = request.user.pk
    try:
        user = openid.returned(request)
    except openid.Refused as refused:
        actor = Actor(openid.name() or "", Role.READER, None, request.META.get("REMOTE_ADDR", ""))
        tell(actor, "was refused at", "sign-in", None, openid.name() or "", note=str(refused))
        return HttpResponseRedirect(f"/{'you' if here else 'sign-in'}?refused={refused}")
    if here == user.pk:
        return HttpResponseRedirect("/you")
    _signed_in(request, user)
    return HttpResponseRedirect("/")


@router.post("/sign-out", response=Me)
def sign_out(request: HttpRequest) -> Me:
    actor = actor_of(request)
    tell(actor, "signed out", "person", None, actor.name)
    auth.logout(request)
    return Me(name=None)


@router.post("/password", response=Me)
def change_password(request: HttpRequest, body: NewPassword) -> Me:
    """Change one's own password; every other session of one's own ends."""
    user = people.change_password(actor_of(request), body.present, body.password)
    auth.update_session_auth_hash(request, user)
    return _me(user)


class SessionLine(Schema):
    """Where somebody is signed in; ``this`` is the session that asks."""

    this: bool
    address: str
    agent: str
    since: datetime | None


class TokenLine(Schema):
    """A token of one's own: what it may, at most, until when, and when it was used last."""

    id: int
    name: str
    role: Role
    created_at: datetime
    expires_at: datetime
    used_at: datetime | None


class TokenMade(TokenLine):
    """A new token with its ``text``, which is told once."""

    text: str


class NewToken(Schema):
    name: str = Field(min_length=1, max_length=80)
    role: Role = Role.READER
    days: int = Field(default=30, ge=1, le=MOST_TOKEN_DAYS)


@router.get("/sessions", response=list[SessionLine])
def list_sessions(request: HttpRequest) -> list[SessionLine]:
    """Where one is signed in."""
    return [
        SessionLine(
            this=session.session_key == request.session.session_key,
            address=told.get("address", ""),
            agent=told.get("agent", ""),
            since=told.get("since"),
        )
        for session, told in sessions.of(_own(request))
    ]


@router.delete("/sessions", response=list[SessionLine])
def end_other_sessions(request: HttpRequest) -> list[SessionLine]:
    """Sign oneself out everywhere but here."""
    actor, user = actor_of(request), _own(request)
    if ended := sessions.end_all(user, but=request.session.session_key):
        tell(actor, "signed out elsewhere", "person", None, actor.name, note=f"{ended} sessions")
    return list_sessions(request)


@router.get("/tokens", response=list[TokenLine])
def list_tokens(request: HttpRequest) -> list[TokenLine]:
    """One's own."""
    return [TokenLine(**_token(token)) for token in PersonalToken.objects.filter(user=_own(request))]


@router.post("/tokens", response={201: TokenMade})
def make_token(request: HttpRequest, body: NewToken) -> Status[TokenMade]:
    """A token of one's own; its text is told once."""
    made, text = tokens.make(actor_of(request), body.name, body.role, body.days)
    return Status(201, TokenMade(**_token(made), text=text))


@router.delete("/tokens/{token_id}", response={204: None})
def withdraw_token(request: HttpRequest, token_id: int) -> Status[None]:
    """It opens nothing from now on."""
    tokens.withdraw(actor_of(request), get_object_or_404(PersonalToken, pk=token_id, user=_own(request)))
    return Status(204, None)


def _own(request: HttpRequest) -> User:
    user = actor_of(request).user
    assert user is not None  # nobody else gets here
    return user


def _token(token: PersonalToken) -> dict[str, Any]:
    return {name: getattr(token, name) for name in ("id", "name", "role", "created_at", "expires_at", "used_at")}


@router.get("/people", response=list[PersonLine])
def list_people(request: HttpRequest) -> list[PersonLine]:
    """Everybody, by name."""
    actor_of(request).check(Role.ADMINISTRATOR)
    return [_line(person) for person in Person.objects.select_related("user").order_by("user__username")]


@router.put("/people/{person_id}/role", response=PersonLine)
def give_role(request: HttpRequest, person_id: int, body: RoleBody) -> PersonLine:
    people.give_role(actor_of(request), _person(person_id), body.role)
    return _line(_person(person_id))


@router.post("/people/{person_id}/lock", response=PersonLine)
def lock_out(request: HttpRequest, person_id: int) -> PersonLine:
    """They cannot sign in any more, and are signed out everywhere."""
    people.lock_out(actor_of(request), _person(person_id))
    return _line(_person(person_id))


@router.post("/people/{person_id}/unlock", response=PersonLine)
def let_in(request: HttpRequest, person_id: int) -> PersonLine:
    people.let_in(actor_of(request), _person(person_id))
    return _line(_person(person_id))


@router.post("/people/{person_id}/password", response=Password)
def reset_password(request: HttpRequest, person_id: int) -> Password:
    """A password by chance, told once; they must choose their own when they sign in with it."""
    return Password(password=people.reset_password(actor_of(request), _person(person_id)))


@router.get("/invitations", response=list[InvitationLine])
def list_invitations(request: HttpRequest) -> list[InvitationLine]:
    """The open ones."""
    actor_of(request).check(Role.ADMINISTRATOR)
    open_ones = Invitation.objects.filter(expires_at__gt=timezone.now())
    return [InvitationLine(**_invitation(invitation)) for invitation in open_ones]


@router.post("/invitations", response={201: Invited})
def invite(request: HttpRequest, body: NewInvitation) -> Status[Invited]:
    """A link by which somebody becomes a person here, once."""
    invitation, token = people.invite(actor_of(request), body.note, body.role, body.days)
    return Status(201, Invited(**_invitation(invitation), token=token))


@router.delete("/invitations/{invitation_id}", response={204: None})
def withdraw(request: HttpRequest, invitation_id: int) -> Status[None]:
    people.withdraw(actor_of(request), get_object_or_404(Invitation, pk=invitation_id))
    return Status(204, None)


@router.get("/welcome/{token}", response=Welcome, auth=None)
def look_at_invitation(request: HttpRequest, token: str) -> Welcome:
    """What the link of an invitation is for."""
    found = people.invitation_of(token)
    return Welcome(role=Role(found.role), invited_by=found.invited_by, expires_at=found.expires_at)


@router.post("/welcome/{token}", response=Me, auth=None)
def accept_invitation(request: HttpRequest, token: str, body: SignIn) -> Me:
    """Become a person by an invitation's link, and be signed in."""
    _check_page(request)
    return _signed_in(request, people.accept(token, body.name, body.password, request.META.get("REMOTE_ADDR", "")))


class HaltState(Schema):
    """Whether all load is halted, by whom and why; ``may_lift`` is of whoever asks."""

    halted: bool
    by: str = ""
    why: str = ""
    at: datetime | None = None
    may_lift: bool = False


class HaltBody(Schema):
    why: str = Field(default="", max_length=300)


@router.get("/halt", response=HaltState)
def get_halt(request: HttpRequest) -> HaltState:
    """Whether all load is halted."""
    return halt_state(actor_of(request))


@router.post("/halt", response=HaltState)
def halt(request: HttpRequest, body: HaltBody) -> HaltState:
    """End all load everywhere, at once, and keep it off until this is lifted."""
    actor = actor_of(request)
    halting.halt(actor, body.why)
    return halt_state(actor)


@router.delete("/halt", response=HaltState)
def lift_halt(request: HttpRequest) -> HaltState:
    """Load may be made again."""
    actor = actor_of(request)
    halting.lift(actor)
    return halt_state(actor)


def halt_state(actor: Actor) -> HaltState:
    found = halting.in_force()
    if found is None:
        return HaltState(halted=False)
    may_lift = halting.may_lift(actor, found)
    return HaltState(halted=True, by=found.by, why=found.why, at=found.at, may_lift=may_lift)


def _check_page(request: HttpRequest) -> None:
    """Where nobody is signed in nothing else asks for the CSRF token."""
    answer = csrf_protect(lambda request: HttpResponse())(request)
    if answer.status_code != 200:
        raise HttpError(403, "The page was too old to sign in with. Load it again.")


def _signed_in(request: HttpRequest, user: Any) -> Me:
    auth.login(request, user, backend=settings.PEOPLE)
    noted = {
        "address": request.META.get("REMOTE_ADDR", ""),
        "agent": request.headers.get("User-Agent", "")[:200],
        "since": timezone.now().isoformat(),
    }
    request.session.update(noted)
    actor = actor_of(request)
    tell(actor, "signed in", "person", None, actor.name)
    return _me(user)


def _me(user: User | None) -> Me:
    if user is None:
        return Me(name=None, outside=openid.name())
    person = Person.objects.filter(user=user).first()
    return Me(name=user.get_username(), role=role_of(user), must_change=bool(person and person.must_change))


def _person(person_id: int) -> Person:
    return get_object_or_404(Person.objects.select_related("user"), pk=person_id)


def _line(person: Person) -> PersonLine:
    user = person.user
    return PersonLine(
        id=person.pk,
        name=user.get_username(),
        role=Role(person.role),
        active=user.is_active,
        must_change=person.must_change,
        joined_at=user.date_joined,
        signed_in_at=user.last_login,
    )


def _invitation(invitation: Invitation) -> dict[str, Any]:
    return {name: getattr(invitation, name) for name in ("id", "note", "role", "invited_by", "expires_at")}
