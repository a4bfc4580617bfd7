"""The practice cloud: tells what runs in which version, deploys others, adds, restarts and takes away instances, and
tells when they are ready and what it did."""

from __future__ import annotations

import heapq
import json
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from random import Random
from typing import TYPE_CHECKING

from aiohttp import web

from stonekettle.core.distribution import Law
from stonekettle.plan import signing
from stonekettle.practice.component import LiveComponent, LiveInstance

if TYPE_CHECKING:
    from stonekettle.practice.server import LiveSystem

MOST_BYTES = 10_000
MOST_INSTANCES = 3_000
Welcome = Callable[[str, Sequence[LiveInstance]], Awaitable[None]]
"""Told of instances that were added to a component, before anybody can look for them."""


def application(system: LiveSystem, welcome: Welcome) -> web.Application:
    """Its addresses: ``GET /components``; ``PUT /components/NAME/version`` with ``{"version": …}``; ``PUT
    /components/NAME/instances`` with ``{"instances": …}``; ``DELETE /components/NAME/instances/NUMBER``, which loses
    one at once; ``POST /components/NAME/instances/NUMBER/restart``; ``GET /components/NAME/ready``, which answers 503
    until all instances are up; and ``GET /log``."""
    app = web.Application(client_max_size=MOST_BYTES)
    cloud = Cloud(system, welcome)
    app.router.add_get("/components", cloud.tell)
    app.router.add_put("/components/{name}/version", cloud.deploy)
    app.router.add_put("/components/{name}/instances", cloud.scale)
    app.router.add_delete("/components/{name}/instances/{number}", cloud.lose)
    app.router.add_post("/components/{name}/instances/{number}/restart", cloud.restart)
    app.router.add_get("/components/{name}/ready", cloud.tell_ready)
    app.router.add_get("/log", cloud.tell_log)
    return app


class Booting:
    """When instances are up that are asked for: at most so many boot at a time, each for a time of its own."""

    def __init__(self, clones: int, random: Random) -> None:
        self._free_at, self._random = [0.0] * clones, random

    def up_at(self, now: float, law: Law, count: int) -> list[float]:
        """Of so many instances asked for now, in the order in which they begin."""
        found = []
        draw = law.sampler(self._random)
        for _ in range(count):
            end = max(now, self._free_at[0]) + draw()
            heapq.heapreplace(self._free_at, end)
            found.append(end)
        return found


class Cloud:
    def __init__(self, system: LiveSystem, welcome: Welcome) -> None:
        self._system, self._welcome = system, welcome
        self._booting = Booting(system.config.clones, Random(system.config.seed))
        # What it tells is by the clock on the wall, since others hold it against theirs.
        self._began = time.time() - system.clock()

    async def tell(self, request: web.Request) -> web.Response:
        return web.json_response([_told(one) for one in self._system.components.values()])

    async def tell_ready(self, request: web.Request) -> web.Response:
        told = _told(self._component(request))
        return web.json_response(told, status=200 if told["ready"] == told["instances"] else 503)

    async def tell_log(self, request: web.Request) -> web.Response:
        """Of every instance when it was asked for, ready, had its first request and left (s since the epoch)."""
        return web.json_response(
            [
                {
                    "component": component.config.name,
                    "instance": instance.number,
                    **{
                        name: self._began + at if at is not None else None
                        for name, at in (
                            ("asked", instance.asked_at),
                            ("ready", instance.up_at if instance.up_at <= component.clock() else None),
                            ("first_request", instance.first_at),
                            ("left", instance.left_at),
                        )
                    },
                }
                for component in self._system.components.values()
                for instance in (*component.instances, *component.left)
            ]
        )

    async def deploy(self, request: web.Request) -> web.Response:
        asked = await self._asked(request)
        component = self._component(request)
        known = {version.name: version for version in component.config.versions}
        version = known.get(str(asked.get("version")))
        if version is None:
            raise _refused(422, f"version: write one of {', '.join(known) or 'none'}")
        component.deploy(version)
        return web.json_response(_told(component), status=202)

    async def scale(self, request: web.Request) -> web.Response:
        asked = await self._asked(request)
        component = self._component(request)
        count = asked.get("instances")
        if not isinstance(count, int) or isinstance(count, bool) or not 1 <= count <= MOST_INSTANCES:
            raise _refused(422, f"instances: write a whole number from 1 to {MOST_INSTANCES}")
        if component.config.divided:
            raise _refused(409, f"the instances of {component.config.name} have servers of their own: it cannot grow")
        more = count - len(component.instances)
        if more > 0:
            config = component.config
            law = Law("lognormal", config.boots_s, variation=config.boots_variation)
            await self._welcome(config.name, component.scale(self._booting.up_at(component.clock(), law, more)))
        for instance in component.instances[count:]:
            component.lose(instance)
        return web.json_response(_told(component), status=202)

    async def lose(self, request: web.Request) -> web.Response:
        await self._asked(request)
        component, instance = self._instance(request)
        if len(component.instances) == 1:
            raise _refused(409, f"it is the last instance of {component.config.name}")
        component.lose(instance)
        return web.json_response(_told(component), status=202)

    async def restart(self, request: web.Request) -> web.Response:
        await self._asked(request)
        component, instance = self._instance(request)
        instance.boot(component.clock() + component.config.restart_s)
        return web.json_response(_told(component), status=202)

    async def _asked(self, request: web.Request) -> Mapping[str, object]:
        """What a call says, if it may say anything."""
        body = await request.read()
        key = self._system.config.signing_key
        if key and (why := signing.fault(key, request.method, request.path_qs, body, request.headers)) is not None:
            raise _refused(401, why)
        if not body:
            return {}
        try:
            asked = json.loads(body)
        except ValueError as error:
            raise _refused(422, "write JSON") from error
        if not isinstance(asked, dict):
            raise _refused(422, "write a JSON object")
        return asked

    def _component(self, request: web.Request) -> LiveComponent:
        found = self._system.components.get(request.match_info["name"])
        if found is None:
            raise web.HTTPNotFound(text=f"there are {', '.join(self._system.components)}")
        return found

    def _instance(self, request: web.Request) -> tuple[LiveComponent, LiveInstance]:
        component = self._component(request)
        for instance in component.instances:
            if str(instance.number) == request.match_info["number"]:
                return component, instance
        numbers = ", ".join(str(instance.number) for instance in component.instances)
        raise web.HTTPNotFound(text=f"there are {numbers}")


def _refused(status: int, why: str) -> web.HTTPException:
    kinds: dict[int, type[web.HTTPException]] = {
        401: web.HTTPUnauthorized,
        409: web.HTTPConflict,
        422: web.HTTPUnprocessableEntity,
    }
    return kinds[status](text=json.dumps({"error": why}), content_type="application/json")


def _told(component: LiveComponent) -> dict[str, object]:
    return {
        "component": component.config.name,
        "version": component.version.name,
        "versions": [version.name for version in component.config.versions],
        "instances": len(component.instances),
        "ready": sum(instance.is_up for instance in component.instances),
    }
