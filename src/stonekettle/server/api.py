"""The API, put together from its apps. Everything but signing in needs a session."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps

from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI

from stonekettle import __version__
from stonekettle.server import problems
from stonekettle.server.access import limits
from stonekettle.server.access.api import router as access
from stonekettle.server.access.sessions import ByToken, SignedIn
from stonekettle.server.capacity.api import router as capacity
from stonekettle.server.changes.api import router as changes
from stonekettle.server.experiments.api import router as experiments
from stonekettle.server.feeds.api import router as feeds
from stonekettle.server.history.api import router as history
from stonekettle.server.jobs.api import router as jobs
from stonekettle.server.journeys.api import router as journeys
from stonekettle.server.requests import CleanParser
from stonekettle.server.runs.api import router as runs
from stonekettle.server.runs.findings_api import router as findings
from stonekettle.server.runs.history_api import router as run_history
from stonekettle.server.runs.markers_api import router as markers
from stonekettle.server.runs.schedules_api import router as schedules
from stonekettle.server.runs.steering_api import router as steering
from stonekettle.server.runs.watching_api import router as watching
from stonekettle.server.series.api import router as series
from stonekettle.server.systems.api import router as systems
from stonekettle.server.targets.api import router as targets


def signed_in(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """Guards the API's own description like the rest of it."""

    @wraps(view)
    def guarded(request: HttpRequest, *arguments: object, **named: object) -> HttpResponse:
        if not request.user.is_authenticated:
            return problems.problem(401, "Not signed in", "Sign in first.")
        return view(request, *arguments, **named)

    return guarded


api = NinjaAPI(
    title="Stone Kettle",
    version=__version__,
    auth=[ByToken(), SignedIn()],
    docs_url=None,
    docs_decorator=signed_in,
    parser=CleanParser(),
    throttle=[limits.ALL],
)
problems.install(api)
api.add_router("", access)
api.add_router("", history)
api.add_router("", systems)
api.add_router("", targets)
api.add_router("", feeds)
api.add_router("", journeys)
api.add_router("", experiments)
api.add_router("", runs)
api.add_router("", findings)
api.add_router("", watching)
api.add_router("", steering)
api.add_router("", markers)
api.add_router("", schedules)
api.add_router("", run_history)
api.add_router("", series)
api.add_router("", capacity)
api.add_router("", changes)
api.add_router("", jobs)
