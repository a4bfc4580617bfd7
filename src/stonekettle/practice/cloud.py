"""The practice cloud: tells what runs in which version, deploys others, and tells when they are ready."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

from aiohttp import web

from stonekettle.plan import signing
from stonekettle.practice.component import LiveComponent

if TYPE_CHECKING:
    from stonekettle.practice.server import LiveSystem

MOST_BYTES = 10_000


def application(system: LiveSystem) -> web.Application:
    """Its addresses: ``GET /components``, ``PUT /components/NAME/version`` with ``{"version": …}``, and
    ``GET /components/NAME/ready``, which answers 503 until all instances are up."""
    app = web.Application(client_max_size=MOST_BYTES)
    cloud = _Cloud(system)
    app.router.add_get("/components", cloud.tell)
    app.router.add_put("/components/{name}/version", cloud.deploy)
    app.router.add_get("/components/{name}/ready", cloud.tell_ready)
    return app


class _Cloud:
    def __init__(self, system: LiveSystem) -> None:
        self._system = system

    async def tell(self, request: web.Request) -> web.Response:
        return web.json_response([_told(one) for one in self._system.components.values()])

    async def tell_ready(self, request: web.Request) -> web.Response:
        told = _told(self._component(request))
        return web.json_response(told, status=200 if told["ready"] == told["instances"] else 503)

    async def deploy(self, request: web.Request) -> web.Response:
        body = await request.read()
        key = self._system.config.signing_key
        if key and (why := signing.fault(key, request.method, request.path_qs, body, request.headers)) is not None:
            return web.json_response({"error": why}, status=401)
        component = self._component(request)
        known = {version.name: version for version in component.config.versions}
        try:
            asked = json.loads(body)
            version = known[asked["version"]]
        except (ValueError, TypeError, KeyError):
            names = ", ".join(known) or "none"
            return web.json_response({"error": f"version: write one of {names}"}, status=422)
        component.deploy(version)
        return web.json_response(_told(component), status=202)

    def _component(self, request: web.Request) -> LiveComponent:
        found = self._system.components.get(request.match_info["name"])
        if found is None:
            raise web.HTTPNotFound(text=f"there are {', '.join(self._system.components)}")
        return found


def _told(component: LiveComponent) -> dict[str, object]:
    return {
        "component": component.config.name,
        "version": component.version.name,
        "versions": [version.name for version in component.config.versions],
        "instances": len(component.instances),
        "ready": sum(instance.is_up for instance in component.instances),
    }
