"""Signing in and out."""

from __future__ import annotations

import time

from django.contrib import auth
from django.http import HttpRequest, HttpResponse
from django.middleware.csrf import get_token
from django.views.decorators.csrf import csrf_protect
from ninja import Field, Router, Schema
from ninja.errors import HttpError

router = Router(tags=["access"])
WRONG_SIGN_IN_DELAY_S = 0.5


class SignIn(Schema):
    name: str = Field(max_length=150)
    password: str = Field(max_length=500)


class Me(Schema):
    """Who is signed in; ``name`` is None when nobody is."""

    name: str | None


@router.get("/me", response=Me, auth=None)
def me(request: HttpRequest) -> Me:
    """Who is signed in. Also hands out the CSRF cookie every change needs."""
    get_token(request)
    return Me(name=request.user.get_username() or None)


@router.post("/sign-in", response=Me, auth=None)
def sign_in(request: HttpRequest, body: SignIn) -> Me:
    @csrf_protect
    def checked(request: HttpRequest) -> HttpResponse:
        user = auth.authenticate(request, username=body.name, password=body.password)
        if user is None:
            time.sleep(WRONG_SIGN_IN_DELAY_S)
            raise HttpError(400, "The name or the password is wrong.")
        auth.login(request, user)
        return HttpResponse()

    answer = checked(request)
    if answer.status_code != 200:
        raise HttpError(403, "The page was too old to sign in with. Load it again.")
    return Me(name=body.name)


@router.post("/sign-out", response=Me)
def sign_out(request: HttpRequest) -> Me:
    auth.logout(request)
    return Me(name=None)
