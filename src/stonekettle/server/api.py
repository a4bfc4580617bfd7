"""The API, put together from its apps. Everything but signing in needs a session."""

from __future__ import annotations

from ninja import NinjaAPI
from ninja.security import django_auth

from stonekettle import __version__
from stonekettle.server import problems
from stonekettle.server.access.api import router as access
from stonekettle.server.experiments.api import router as experiments
from stonekettle.server.runs.api import router as runs

api = NinjaAPI(title="Stone Kettle", version=__version__, auth=django_auth, docs_url=None)
problems.install(api)
api.add_router("", access)
api.add_router("", experiments)
api.add_router("", runs)
