"""Quillport over real sockets: one process plays every component of a configuration.

The gateway answers the public API; each component instance serves its metrics on a port of its
own. The control port tells where they are.
"""

from __future__ import annotations

import asyncio
import json
from collections import Counter
from collections.abc import Callable, Coroutine, Sequence
from functools import partial
from pathlib import Path
from random import Random

from aiohttp import web
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import CollectorRegistry

from stonekettle.practice import cloud, shapes
from stonekettle.practice.component import VISIT_BYTES, Draws, Failed, LiveComponent, LiveInstance, Refused
from stonekettle.practice.config import PracticeConfig, Route, Visit
from stonekettle.practice.portal import Portal
from stonekettle.practice.telling import Part, Telling, Walk, started_at

ENTRY = "gateway"
CLOUD = "cloud"
"""Where components are deployed; it takes no load."""


class LiveSystem:
    """All components of a configuration and the walk of a request through them."""

    def __init__(self, config: PracticeConfig, clock: Callable[[], float]) -> None:
        began = clock()
        self.config = config
        self.clock: Callable[[], float] = lambda: clock() - began
        random = Random(config.seed)
        drift = partial(shapes.drifted, config)
        self.components = {c.name: LiveComponent(c, self.clock, random, drift) for c in config.components}
        self._draws: dict[tuple[str, str], Draws] = {
            (route.name, visit.component): Draws(
                config.law(visit.cpu_ms).sampler(random),
                config.law(visit.disk_ms).sampler(random) if visit.disk_ms > 0 else None,
                config.law(held_ms).sampler(random)
                if (held_ms := config.component(visit.component).lock_ms) > 0
                else None,
                config.law(visit.idle_ms).sampler(random) if visit.idle_ms > 0 else None,
            )
            for route in config.routes
            for visit in route.visits
        }
        self.answered: Counter[str] = Counter()
        self.telling: Telling | None = None

    async def answer(self, route: Route, request: web.Request) -> dict[str, float]:
        """Do what a request of a route needs; seconds spent in each component."""
        walk = self.telling.begin(request.headers.get("traceparent"), route.name) if self.telling else None
        if walk is None or self.telling is None:
            return await self.visit_all(route, request.path_qs)
        try:
            return await self.visit_all(route, request.path_qs, walk)
        finally:
            self.telling.end(walk, ENTRY)

    async def visit_all(self, route: Route, address: str = "", walk: Walk | None = None) -> dict[str, float]:
        """Visit the route's components in order for ``address``, some beside each other; seconds spent in each. What
        they do is added to the ``walk``."""
        entered: list[tuple[LiveComponent, LiveInstance]] = []
        spent: dict[str, float] = {}
        op = "read" if route.method == "GET" else "write"

        async def visit_one(visit: Visit, at: float) -> float:
            component = self.components[visit.component]
            seen: list[tuple[str, float, float]] = []
            number, left, failed = 0, at, True
            try:
                instance = component.enter()
                number = instance.number
                entered.append((component, instance))
                draws = self._draws[route.name, visit.component]
                left = await component.serve(instance, visit, draws, at, op, address, seen)
                failed = False
            except Failed:
                left = self.clock()
                raise
            finally:
                if walk is not None:
                    name = "work" if visit.component == ENTRY else route.name
                    stay = Part(visit.component, number, name, walk.ids(), walk.root, at, left, failed)
                    walk.add(stay, seen)
            spent[visit.component] = left - at
            return left

        at = self.clock()
        try:
            for together in route.phases:
                if len(together) == 1:
                    at = await visit_one(together[0], at)
                else:
                    at = max(await asyncio.gather(*(visit_one(visit, at) for visit in together)))
        finally:
            for component, instance in entered:
                component.leave(instance, VISIT_BYTES)
        return spent


def add_public_api(app: web.Application, system: LiveSystem) -> None:
    """Add the gateway's routes to its application."""
    for route in system.config.routes:
        app.router.add_route(route.method, route.path, _handler(system, route))


def _handler(system: LiveSystem, route: Route) -> Callable[[web.Request], Coroutine[None, None, web.Response]]:
    created = route.method == "POST" and not route.path.endswith("activate")

    async def answer(request: web.Request) -> web.Response:
        if request.can_read_body:
            await request.read()
        try:
            spent = await system.answer(route, request)
        except Refused as refused:
            system.answered["503"] += 1
            return web.json_response({"error": f"{refused} is overloaded"}, status=503)
        except Failed as failed:
            system.answered["500"] += 1
            return web.json_response({"error": f"{failed} gave up"}, status=500)
        timing = ", ".join(f"{name};dur={s * 1000:.2f}" for name, s in spent.items())
        body = {"service": "Quillport Tramways", "route": route.name, "line": 4, "stops": ["Quay Gate", "Mill Lane"]}
        system.answered[route.name] += 1
        return web.json_response(body, status=201 if created else 200, headers={"Server-Timing": timing})

    return answer


def metrics_page(instance: LiveInstance) -> web.Application:
    """The metrics of one instance of a component."""
    registry = CollectorRegistry()
    registry.register(instance)

    async def answer(request: web.Request) -> web.Response:
        if not instance.is_up:
            return web.Response(status=503, text="not up")
        page = generate_latest(registry)  # type: ignore[no-untyped-call]
        return web.Response(body=page, headers={"Content-Type": CONTENT_TYPE_LATEST})

    app = web.Application()
    app.router.add_get("/metrics", answer)
    return app


class PracticeServer:
    """Listens for every component. ``control_port`` 0 picks a free one. Traces are pushed to ``report_to``, an address
    and the file that names who listens there; None: to nobody."""

    def __init__(
        self, config: PracticeConfig, control_port: int = 0, report_to: tuple[str, Path] | None = None
    ) -> None:
        self.config, self.control_port, self.report_to = config, control_port, report_to
        self.directory: dict[str, list[str]] = {}
        self._pages: dict[str, list[tuple[LiveInstance, str]]] = {}
        self._runners: list[web.AppRunner] = []
        self._pushing: asyncio.Task[None] | None = None

    async def start(self) -> None:
        loop = asyncio.get_running_loop()
        self.system = LiveSystem(self.config, loop.time)
        self.portal = Portal(self.system)
        if self.report_to is not None:
            self.system.telling = Telling(*self.report_to, started_at(self.system.clock))
            self._pushing = loop.create_task(self.system.telling.push_forever())
        for name, component in self.system.components.items():
            if not component.config.metered:
                continue
            await self._welcome(name, component.instances)
        clouds = cloud.application(self.system, self._welcome)
        self.directory[CLOUD] = [f"http://127.0.0.1:{await self._listen(clouds, 0)}"]
        control = web.Application()
        control.router.add_get("/directory", self._tell_directory)
        control.router.add_get("/answered", self._tell_answered)
        self.control_port = await self._listen(control, self.control_port)

    async def stop(self) -> None:
        if self._pushing is not None:
            self._pushing.cancel()
        for runner in self._runners:
            await runner.cleanup()

    async def _welcome(self, name: str, instances: Sequence[LiveInstance]) -> None:
        """Give each of these instances of a component its metrics page, and the first of the gateway the public API."""
        if not self.system.components[name].config.metered:
            return
        for instance in instances:
            app = metrics_page(instance)
            if name == ENTRY:
                add_public_api(app, self.system)
                if self.portal.is_possible:
                    self.portal.add_to(app)
            port = await self._listen(app, 0)
            self._pages.setdefault(name, []).append((instance, f"http://127.0.0.1:{port}"))
        self._list(name)

    def _list(self, name: str) -> None:
        """Those are in the directory that have come up, and have not left."""
        there = [(one, url) for one, url in self._pages[name] if one.left_at is None]
        self.directory[name] = [url for one, url in there if one.joined_at is not None or one.is_up]

    async def _listen(self, app: web.Application, port: int) -> int:
        runner = web.AppRunner(app, access_log=None, shutdown_timeout=1.0)
        await runner.setup()
        site = web.TCPSite(runner, "127.0.0.1", port, backlog=4096)
        await site.start()
        self._runners.append(runner)
        return int(runner.addresses[0][1])

    async def _tell_directory(self, request: web.Request) -> web.Response:
        for name in self._pages:
            self._list(name)
        return web.json_response(self.directory)

    async def _tell_answered(self, request: web.Request) -> web.Response:
        """How many requests were answered, by route, and in all: the count to check a run against."""
        answered = dict(self.system.answered)
        return web.json_response({"total": sum(answered.values()), "by_route": answered})


async def serve_forever(config: PracticeConfig, control_port: int, report_to: tuple[str, Path] | None = None) -> None:
    """Serve until cancelled; prints the directory as one line of JSON when ready."""
    server = PracticeServer(config, control_port, report_to)
    await server.start()
    print(json.dumps({"control": server.control_port, **server.directory}), flush=True)
    try:
        await asyncio.Event().wait()
    finally:
        await server.stop()
