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
    """Its addresses: ``GET /components``, ``GET /log``. Of a component, below ``/components/NAME``: ``PUT …/version``
    with ``{"version": …}`` and ``PUT …/type`` with ``{"type": …}`` start all instances anew, at once or, with
    ``"at_a_time": N``, so many by so many, while the others get the work; ``PUT …/instances`` with
    ``{"instances": …}``; ``PUT …/failures`` with ``{"share": …}``, after which that share of its visits comes to
    nothing; and ``GET …/ready``, which answers 503 until all instances are up as they were asked for. Of one instance,
    below ``/components/NAME/instances/NUMBER``: ``PUT`` starts it, ``DELETE`` loses it at once, ``POST …/restart``,
    and ``GET …/ready``, which answers 503 until it is up."""
    app = web.Application(client_max_size=MOST_BYTES)
    cloud = Cloud(system, welcome)
    app.router.add_get("/components", cloud.tell)
    app.router.add_put("/components/{name}/version", cloud.deploy)
    app.router.add_put("/components/{name}/type", cloud.make)
    app.router.add_put("/components/{name}/failures", cloud.let_fail)
    app.router.add_put("/components/{name}/instances", cloud.scale)
    app.router.add_put("/components/{name}/instances/{number}", cloud.start_one)
    app.router.add_get("/components/{name}/instances/{number}/ready", cloud.tell_one)
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
        component.deploy(version, self._at_a_time(asked))
        return web.json_response(_told(component), status=202)

    async def make(self, request: web.Request) -> web.Response:
        asked = await self._asked(request)
        component = self._component(request)
        self._can_grow(component)
        known = {size.name: size for size in component.config.sizes}
        size = known.get(str(asked.get("type")))
        if size is None:
            raise _refused(422, f"type: write one of {', '.join(known) or 'none'}")
        component.make(size, self._at_a_time(asked))
        return web.json_response(_told(component), status=202)

    def _at_a_time(self, asked: Mapping[str, object]) -> int | None:
        count = asked.get("at_a_time")
        if count is not None and (not isinstance(count, int) or isinstance(count, bool) or count < 1):
            raise _refused(422, "at_a_time: write a whole number from 1")
        return count

    async def let_fail(self, request: web.Request) -> web.Response:
        asked = await self._asked(request)
        component, share = self._component(request), asked.get("share")
        if not isinstance(share, int | float) or isinstance(share, bool) or not 0 <= share <= 1:
            raise _refused(422, "share: write a number from 0 to 1")
        component.fails = float(share)
        return web.json_response(_told(component), status=202)

    async def scale(self, request: web.Request) -> web.Response:
        asked = await self._asked(request)
        component = self._component(request)
        count = asked.get("instances")
        if not isinstance(count, int) or isinstance(count, bool) or not 1 <= count <= MOST_INSTANCES:
            raise _refused(422, f"instances: write a whole number from 1 to {MOST_INSTANCES}")
        self._can_grow(component)
        more = count - len(component.instances)
        if more > 0:
            await self._welcome(component.config.name, component.scale(self._boots(component, more)))
        for instance in component.instances[count:]:
            component.lose(instance)
        return web.json_response(_told(component), status=202)

    def _can_grow(self, component: LiveComponent) -> None:
        if component.config.divided:
            raise _refused(409, f"the instances of {component.config.name} have servers of their own: it cannot grow")

    def _boots(self, component: LiveComponent, count: int) -> list[float]:
        """When so many more are up."""
        config = component.config
        law = Law("lognormal", config.boots_s, variation=config.boots_variation)
        return self._booting.up_at(component.clock(), law, count)

    async def start_one(self, request: web.Request) -> web.Response:
        await self._asked(request)
        component, number = self._component(request), request.match_info["number"]
        if not number.isascii() or not number.isdigit() or int(number) >= MOST_INSTANCES:
            raise _refused(422, f"number: write a whole number below {MOST_INSTANCES}")
        if int(number) in component.numbered:
            raise _refused(409, f"there is an instance {number} of {component.config.name}")
        self._can_grow(component)
        added = component.begin([(int(number), self._boots(component, 1)[0])])
        await self._welcome(component.config.name, added)
        return web.json_response(_told(component), status=202)

    async def tell_one(self, request: web.Request) -> web.Response:
        _, instance = self._instance(request)
        return web.json_response({"instance": instance.number}, status=200 if instance.is_up else 503)

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
        component, number = self._component(request), request.match_info["number"]
        if number.isascii() and number.isdigit() and (found := component.numbered.get(int(number))) is not None:
            return component, found
        numbers = ", ".join(str(instance.number) for instance in component.instances[:20])
        raise web.HTTPNotFound(text=f"there are {numbers}{' …' if len(component.instances) > 20 else ''}")


def _refused(status: int, why: str) -> web.HTTPException:
    kinds: dict[int, type[web.HTTPException]] = {
        401: web.HTTPUnauthorized,
        409: web.HTTPConflict,
        422: web.HTTPUnprocessableEntity,
    }
    return kinds[status](text=json.dumps({"error": why}), content_type="application/json")


def _told(component: LiveComponent) -> dict[str, object]:
    config = component.config
    component.settle()
    return {
        "component": config.name,
        "version": component.version.name,
        "versions": [version.name for version in config.versions],
        "cpus": component.cpus,
        "types": [{"type": one.name, "cpus": one.cpus, "price_per_hour": one.price_per_hour} for one in config.sizes],
        "fails": component.fails,
        "instances": len(component.instances),
        "ready": sum(instance.is_as_asked for instance in component.instances),
    }
