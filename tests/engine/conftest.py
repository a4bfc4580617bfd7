"""A small HTTP server with answers that are known, and a load loop played against it."""

from __future__ import annotations

import threading
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import numpy as np
import pytest

from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned
from stonekettle.engine import driver
from stonekettle.engine.generator import LoadLoop
from stonekettle.engine.records import ERRORS, RECORD, Records, view
from stonekettle.engine.rollup import Second
from stonekettle.plan import document
from stonekettle.plan.models import Plan

BODIES = {"/latin": "Grüße aus Zürich".encode("latin-1"), "/deep": b"[" * 50_000, "/half": b'{"token": "\\ud800x"}'}


class KnownServer(ThreadingHTTPServer):
    """Answers /, fails /fail with 500, answers /slow after 300 ms, closes on /drop, speaks Latin-1 at
    /latin and nests too deep at /deep; what a test put into ``answers`` (by path: headers, body) goes first, and
    what it put into ``holds`` is answered after so many seconds, or when the test ends; counts all.

    ``sent`` holds by path the moments (perf_counter seconds) just before and after each answer was sent.
    """

    daemon_threads = True
    request_queue_size = 256

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), Handler)
        self.seen: Counter[str] = Counter()
        self.sent: defaultdict[str, list[tuple[float, float]]] = defaultdict(list)
        self.connections: set[int] = set()
        self.cookies: list[str | None] = []
        self.names: list[list[str] | None] = []
        self.answers: dict[str, tuple[dict[str, str], bytes]] = {}
        self.holds: dict[str, float] = {}
        self.let_go = threading.Event()
        self.url = f"http://127.0.0.1:{self.server_address[1]}"

    def handle_error(self, request: object, client_address: object) -> None:
        """A user that leaves closes its connection; that is no error here."""


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    server: KnownServer

    def do_GET(self) -> None:
        path = self.path.partition("?")[0]
        self.server.seen[path] += 1
        self.server.connections.add(self.client_address[1])
        self.server.cookies.append(self.headers.get("Cookie"))
        if path == "/slow":
            time.sleep(0.3)
        if path in self.server.holds:
            self.server.let_go.wait(self.server.holds[path])
        if path == "/drop":
            self.close_connection = True
            return
        self.server.names.append(self.headers.get_all("X-Rider"))
        kind = "text/html; charset=ISO-8859-1" if path == "/latin" else "application/json"
        headers, body = self.server.answers.get(path, ({"Content-Type": kind}, BODIES.get(path, b"hello")))
        self.send_response(500 if path == "/fail" else 302 if "Location" in headers else 200)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Set-Cookie", "visit=1")
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        before = time.perf_counter()
        self.wfile.write(body)
        self.server.sent[path].append((before, time.perf_counter()))

    def do_POST(self) -> None:
        self.rfile.read(int(self.headers.get("Content-Length", 0)))
        self.do_GET()

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def known_server() -> Iterator[KnownServer]:
    server = KnownServer()
    thread = threading.Thread(target=server.serve_forever, name="known-server", daemon=True)
    thread.start()
    yield server
    server.let_go.set()
    server.shutdown()
    server.server_close()


def loop_of(
    plan: Plan, emit: Callable[[Second, bytes], None], profile: LoadProfile | None = None, **more: Any
) -> LoadLoop:
    """A loop that shares with nobody and follows the plan, or a profile instead."""
    return LoadLoop.alone(plan, emit, as_planned(profile) if profile else None, **more)


class Played:
    """One load loop from start to end, with everything it emitted."""

    def __init__(
        self,
        url: str,
        path: str = "/",
        users: int = 5,
        seconds: float = 1.5,
        think: str = "20 ms",
        profile: LoadProfile | None = None,
        hear: Callable[[LoadLoop, float], None] = lambda loop, elapsed: None,
        groups: Sequence[Mapping[str, Any]] = (),
        step: Mapping[str, Any] | None = None,
        **more: Any,
    ) -> None:
        request = path if " " in path else f"GET {path}"
        step = {"name": "a", "request": request, "think": f"exponential {think}", **(step or {})}
        load = {"groups": list(groups)} if groups else {"load": [{"hold": {"users": users, "for": "1 s"}}]}
        plan = document.from_document(
            {
                "name": "test",
                "system": {"name": "s", "base_url": url},
                "journeys": [{"name": "j", "steps": [step]}],
                **load,
            }
        )
        self.seconds: list[Second] = []
        self.chunks: list[bytes] = []
        chosen = None if groups else profile or LoadProfile((Segment.hold(users, seconds),))
        self.loop = loop_of(plan, self._keep, chosen, **more)
        self.start = time.perf_counter()
        self.loop.run(self.start, lambda: hear(self.loop, time.perf_counter() - self.start))
        self.lasted = time.perf_counter() - self.start

    def _keep(self, second: Second, data: bytes) -> None:
        self.seconds.append(second)
        self.chunks.append(data)

    @property
    def records(self) -> Records:
        return np.concatenate([view(c) for c in self.chunks]) if self.chunks else np.zeros(0, RECORD)

    def errors(self) -> set[str]:
        return {ERRORS[e] for e in self.records["error"]}


@pytest.fixture(params=["select", "epoll"])
def each_driver(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(driver, "SELECT_USERS", 10_000 if request.param == "select" else 0)
