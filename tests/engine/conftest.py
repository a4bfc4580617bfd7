"""A small HTTP server with answers that are known."""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest


class KnownServer(ThreadingHTTPServer):
    """Answers /, fails /fail with 500, answers /slow after 300 ms, closes on /drop; counts all."""

    daemon_threads = True
    request_queue_size = 256

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), Handler)
        self.seen: Counter[str] = Counter()
        self.connections: set[int] = set()
        self.cookies: list[str | None] = []
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
        if path == "/drop":
            self.close_connection = True
            return
        body = b"hello"
        self.send_response(500 if path == "/fail" else 200)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Set-Cookie", "visit=1")
        self.end_headers()
        self.wfile.write(body)

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
    server.shutdown()
    server.server_close()
