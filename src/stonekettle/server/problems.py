"""Errors of the API as problem details (RFC 9457), with the path of the field at fault."""

from __future__ import annotations

import logging
import secrets
from typing import Any

from django.core.exceptions import RequestDataTooBig
from django.db import InterfaceError, OperationalError
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from ninja import NinjaAPI
from ninja.errors import AuthenticationError, AuthorizationError, HttpError, Throttled, ValidationError

from stonekettle.meters.table_file import TableError
from stonekettle.plan.problems import PlanError
from stonekettle.server.access.roles import Forbidden

log = logging.getLogger(__name__)
CONTENT_TYPE = "application/problem+json"
DISK_FULL = "53100"
"""The state PostgreSQL tells then."""


class Outdated(Exception):
    """Somebody saved meanwhile: both versions, and the one they come from where it is still known."""

    def __init__(self, who: str, revision: int, theirs: Any, base: Any) -> None:
        super().__init__(f"{who or 'Somebody'} saved this while you changed it.")
        self.revision, self.theirs, self.base = revision, theirs, base


class Conflict(Exception):
    """What was asked cannot be done in the present state; the message says why and what to do."""


def problem(status: int, title: str, detail: str, **more: Any) -> HttpResponse:
    body = {"type": "about:blank", "title": title, "status": status, "detail": detail, **more}
    return JsonResponse(body, status=status, content_type=CONTENT_TYPE)


def too_big() -> HttpResponse:
    return problem(413, "Too large", "What was sent is larger than this address takes.")


def fault(where: str, error: BaseException | None) -> dict[str, Any]:
    """A fault of ours as a problem, written to the log under the number it tells."""
    number = secrets.token_hex(4)
    log.error("problem %s at %s", number, where, exc_info=error or True)
    detail = f"This is a fault of Stone Kettle, not yours. Its log has it as problem {number}."
    return {"status": 500, "title": "Something went wrong here", "detail": detail, "problems": [], "number": number}


def is_disk_full(error: BaseException) -> bool:
    """Whether the database has no room, as it says itself or the system beneath it."""
    return getattr(error.__cause__, "sqlstate", None) == DISK_FULL or "No space left" in str(error)


def unexpected(request: HttpRequest, error: BaseException | None) -> HttpResponse:
    """A fault of ours: the same number stands in the answer and, with what happened, in the log."""
    return problem(**fault(f"{request.method} {request.path}", error))


def expected(error: Exception) -> dict[str, Any] | None:
    """An error that says what is wrong and how to mend it, as a problem; None for any other."""
    if isinstance(error, PlanError):
        found = [p.as_dict() for p in error.problems]
        return {"status": 422, "title": error.title, "detail": str(error), "problems": found}
    if isinstance(error, TableError):
        found = [{"path": error.field, "message": error.message, "mend": error.mend}]
        return {"status": 422, "title": "The file cannot be used", "detail": str(error), "problems": found}
    if isinstance(error, Forbidden):
        return {"status": 403, "title": "Not allowed", "detail": str(error), "problems": []}
    if isinstance(error, Conflict):
        return {"status": 409, "title": "Not possible now", "detail": str(error), "problems": []}
    return None


def install(api: NinjaAPI) -> None:
    """Answer every expected exception with a problem."""

    @api.exception_handler(PlanError)
    @api.exception_handler(TableError)
    @api.exception_handler(Conflict)
    @api.exception_handler(Forbidden)
    def _expected(request: HttpRequest, error: Exception) -> HttpResponse:
        return problem(**(expected(error) or {}))

    @api.exception_handler(ValidationError)
    def _validation(request: HttpRequest, error: ValidationError) -> HttpResponse:
        found = [
            {"path": ".".join(map(str, e["loc"])), "message": e["msg"], "mend": "Correct the value."}
            for e in error.errors
        ]
        return problem(422, "The request is not valid", "Some fields are wrong.", problems=found)

    @api.exception_handler(AuthenticationError)
    def _unauthenticated(request: HttpRequest, error: AuthenticationError) -> HttpResponse:
        return problem(401, "Not signed in", "Sign in first.")

    @api.exception_handler(AuthorizationError)
    def _forbidden(request: HttpRequest, error: AuthorizationError) -> HttpResponse:
        return problem(403, "Not allowed", "You may not do this.")

    @api.exception_handler(Http404)
    def _missing(request: HttpRequest, error: Http404) -> HttpResponse:
        return problem(404, "Not found", "There is no such object.")

    @api.exception_handler(RequestDataTooBig)
    def _too_big(request: HttpRequest, error: RequestDataTooBig) -> HttpResponse:
        return too_big()

    @api.exception_handler(Outdated)
    def _outdated(request: HttpRequest, error: Outdated) -> HttpResponse:
        versions = {"theirs": error.theirs, "base": error.base, "revision": error.revision}
        return problem(409, "Changed meanwhile", str(error), **versions)

    @api.exception_handler(OperationalError)
    @api.exception_handler(InterfaceError)
    def _away(request: HttpRequest, error: Exception) -> HttpResponse:
        log.warning("the database is away at %s %s: %s", request.method, request.path, str(error).splitlines()[:1])
        if is_disk_full(error):
            return problem(503, "The disk is full", "The disk of the database is full. Free some space and try again.")
        return problem(503, "The database is away", "It is being started again; try again in some seconds.")

    @api.exception_handler(Exception)
    def _unexpected(request: HttpRequest, error: Exception) -> HttpResponse:
        return unexpected(request, error)

    @api.exception_handler(Throttled)
    def _too_often(request: HttpRequest, error: Throttled) -> HttpResponse:
        wait = max(1, round(error.wait or 1))
        answer = problem(429, "Asked too often", f"That is more than one person asks. Go on in {wait} s.")
        answer["Retry-After"] = str(wait)
        return answer

    @api.exception_handler(HttpError)
    def _other(request: HttpRequest, error: HttpError) -> HttpResponse:
        if isinstance(error.__cause__, PlanError):  # a body that could not be read
            return _expected(request, error.__cause__)
        return problem(error.status_code, "Refused", str(error))
