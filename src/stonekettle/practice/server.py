"""Quillport over real sockets: one process plays every component of a configuration.

The gateway answers the public API; each component instance serves its metrics on a port of its
own. The control port tells where they are.
"""

from __future__ import annotations

import asyncio
import json
from collections import Counter
from collections.abc import Callable, Coroutine, Iterator
from random import Random

from aiohttp import web
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector, CollectorRegistry

from stonekettle.practice.config import Component, PracticeConfig, Route
from stonekettle.practice.station import Pool, Servers

ENTRY = "gateway"


class LiveComponent(Collector):
    """A component's simulated capacity and its counters."""

    def __init__(self, config: Component, clock: Callable[[], float]) -> None:
        self.config, self.clock = config, clock
        self.cpu = Servers(config.cpus * config.instances)
        self.disk = Servers(config.disks * config.instances) if config.disks else None
        self.pool = Pool(config.pool) if config.pool is not None else None
        self.inside = 0
        self.served = 0
        self.refused = 0

    def collect(self) -> Iterator[Metric]:
        """One instance's metrics: the servers are shared evenly between instances."""
        now, instances = self.clock(), self.config.instances
        cpu_seconds = self.cpu.busy_seconds(now) / instances
        yield CounterMetricFamily("quillport_cpu_seconds", "Busy seconds of all cores", cpu_seconds)
        yield GaugeMetricFamily("quillport_cpu_cores", "Cores", self.config.cpus)
        if self.disk is not None:
            busy = self.disk.busy_seconds(now) / instances
            yield CounterMetricFamily("quillport_disk_busy_seconds", "Busy seconds of all disks", busy)
            yield GaugeMetricFamily("quillport_disk_devices", "Disks", self.config.disks)
        if self.pool is not None:
            in_use, limit, waiting = self.pool.in_use, self.pool.limit, self.pool.waiting
            yield GaugeMetricFamily("quillport_pool_connections_in_use", "Connections in use", in_use / instances)
            yield GaugeMetricFamily("quillport_pool_connections_limit", "Connections allowed", limit / instances)
            yield GaugeMetricFamily("quillport_pool_connections_waiting", "Requests waiting", waiting / instances)
        used = (0.3 * self.config.memory_mb + 0.4 * self.inside) * 1e6
        yield GaugeMetricFamily("quillport_memory_used_bytes", "Memory in use", used)
        yield GaugeMetricFamily("quillport_memory_limit_bytes", "Memory", self.config.memory_mb * 1e6)
        yield GaugeMetricFamily("quillport_requests_inside", "Requests inside", self.inside)
        yield CounterMetricFamily("quillport_requests", "Requests answered", self.served / instances)
        yield CounterMetricFamily("quillport_requests_refused", "Requests refused", self.refused / instances)


class Refused(Exception):
    """A component is over its limit and answers 503 at once."""


class LiveSystem:
    """All components of a configuration and the walk of a request through them."""

    def __init__(self, config: PracticeConfig, clock: Callable[[], float]) -> None:
        self.config, self.clock = config, clock
        self.components = {c.name: LiveComponent(c, clock) for c in config.components}
        random = Random(config.seed)
        self._draws = {
            (route.name, visit.component): (
                config.law(visit.cpu_ms).sampler(random),
                config.law(visit.disk_ms).sampler(random) if visit.disk_ms > 0 else None,
            )
            for route in config.routes
            for visit in route.visits
        }
        self.answered: Counter[str] = Counter()

    async def visit_all(self, route: Route) -> dict[str, float]:
        """Visit the route's components in order; seconds spent in each."""
        entered: list[LiveComponent] = []
        spent: dict[str, float] = {}
        at = self.clock()
        try:
            for visit in route.visits:
                component = self.components[visit.component]
                limit = component.config.refuse_over
                if limit is not None and component.inside >= limit:
                    component.refused += 1
                    raise Refused(visit.component)
                component.inside += 1
                entered.append(component)
                left = await self._visit(component, self._draws[route.name, visit.component], at)
                spent[visit.component] = left - at
                at = left
        finally:
            for component in entered:
                component.inside -= 1
                component.served += 1
        return spent

    async def _visit(
        self,
        component: LiveComponent,
        draws: tuple[Callable[[], float], Callable[[], float] | None],
        at: float,
    ) -> float:
        if component.pool is not None:
            at = await component.pool.enter(at)
        try:
            at = await self._sleep_until(component.cpu.serve(at, draws[0]()))
            if component.disk is not None and draws[1] is not None:
                at = await self._sleep_until(component.disk.serve(at, draws[1]()))
        finally:
            if component.pool is not None:
                component.pool.leave(at)
        return at

    async def _sleep_until(self, end: float) -> float:
        delay = end - self.clock()
        if delay > 0:
            await asyncio.sleep(delay)
        return end


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
            spent = await system.visit_all(route)
        except Refused as refused:
            system.answered["503"] += 1
            return web.json_response({"error": f"{refused} is overloaded"}, status=503)
        timing = ", ".join(f"{name};dur={s * 1000:.2f}" for name, s in spent.items())
        body = {"service": "Quillport Tramways", "route": route.name, "line": 4, "stops": ["Quay Gate", "Mill Lane"]}
        system.answered[route.name] += 1
        return web.json_response(body, status=201 if created else 200, headers={"Server-Timing": timing})

    return answer


def metrics_page(component: LiveComponent) -> web.Application:
    """The metrics of one instance of a component."""
    registry = CollectorRegistry()
    registry.register(component)

    async def answer(request: web.Request) -> web.Response:
        page = generate_latest(registry)  # type: ignore[no-untyped-call]
        return web.Response(body=page, headers={"Content-Type": CONTENT_TYPE_LATEST})

    app = web.Application()
    app.router.add_get("/metrics", answer)
    return app


class PracticeServer:
    """Listens for every component. ``control_port`` 0 picks a free one."""

    def __init__(self, config: PracticeConfig, control_port: int = 0) -> None:
        self.config, self.control_port = config, control_port
        self.directory: dict[str, list[str]] = {}
        self._runners: list[web.AppRunner] = []

    async def start(self) -> None:
        loop = asyncio.get_running_loop()
        self.system = LiveSystem(self.config, loop.time)
        for name, component in self.system.components.items():
            for _ in range(component.config.instances):
                app = metrics_page(component)
                if name == ENTRY:
                    add_public_api(app, self.system)
                port = await self._listen(app, 0)
                self.directory.setdefault(name, []).append(f"http://127.0.0.1:{port}")
        control = web.Application()
        control.router.add_get("/directory", self._tell_directory)
        control.router.add_get("/answered", self._tell_answered)
        self.control_port = await self._listen(control, self.control_port)

    async def stop(self) -> None:
        for runner in self._runners:
            await runner.cleanup()

    async def _listen(self, app: web.Application, port: int) -> int:
        runner = web.AppRunner(app, access_log=None, shutdown_timeout=1.0)
        await runner.setup()
        site = web.TCPSite(runner, "127.0.0.1", port, backlog=4096)
        await site.start()
        self._runners.append(runner)
        return int(runner.addresses[0][1])

    async def _tell_directory(self, request: web.Request) -> web.Response:
        return web.json_response(self.directory)

    async def _tell_answered(self, request: web.Request) -> web.Response:
        """How many requests were answered, by route, and in all: the count to check a run against."""
        answered = dict(self.system.answered)
        return web.json_response({"total": sum(answered.values()), "by_route": answered})


async def serve_forever(config: PracticeConfig, control_port: int) -> None:
    """Serve until cancelled; prints the directory as one line of JSON when ready."""
    server = PracticeServer(config, control_port)
    await server.start()
    print(json.dumps({"control": server.control_port, **server.directory}), flush=True)
    try:
        await asyncio.Event().wait()
    finally:
        await server.stop()
