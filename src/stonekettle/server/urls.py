"""The API under /api/, and the front end's one page for every other address."""

from __future__ import annotations

from django.conf import settings
from django.core.exceptions import RequestDataTooBig
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase
from django.urls import path, re_path
from django.views.decorators.cache import never_cache

from stonekettle.server import problems
from stonekettle.server.api import api


@never_cache
def front_end(request: HttpRequest) -> HttpResponseBase:
    """The page that draws every place of the application."""
    page = settings.WEB_BUILD / "index.html"
    if not page.is_file():
        return HttpResponse("The front end is not built: run ./kettle start.", status=503)
    return FileResponse(page.open("rb"), content_type="text/html; charset=utf-8")


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    return problems.problem(404, "Not found", "There is no such address in the API.")


def failed(request: HttpRequest) -> HttpResponse:
    return problems.unexpected(request, None)


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    if isinstance(exception, RequestDataTooBig):
        return problems.too_big()
    return problems.problem(400, "Not valid", "The request could not be read.")


handler400, handler404, handler500 = (f"{__name__}.{view.__name__}" for view in (bad_request, not_found, failed))
urlpatterns = [path("api/", api.urls), re_path(r"^(?!api/).*$", front_end)]
