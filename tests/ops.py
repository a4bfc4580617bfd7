"""A deployment service for tests: it notes what it is asked, and answers as it is told."""

from __future__ import annotations

import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any


class Ops:
    """A deployment service that notes what it is asked; it is ready after so many questions."""

    def __init__(self) -> None:
        self.asked: list[tuple[str, str, dict[str, str], bytes]] = []
        self.status, self.ready_after, self.drips = 200, 0, False
        self.up: dict[str, float] = {}
        """From when on a path is answered with 200 (monotonic s), and with 503 before."""
        ops = self

        class Handler(BaseHTTPRequestHandler):
            def answer(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
                ops.asked.append((self.command, self.path, dict(self.headers), body))
                status = ops.status
                if self.path == "/ready":
                    ops.ready_after -= 1
                    status = 200 if ops.ready_after < 0 else 503
                if self.path in ops.up:
                    status = 200 if time.monotonic() >= ops.up[self.path] else 503
                if self.path == "/moved":
                    status = 302
                self.send_response(status)
                if status == 302:
                    self.send_header("Location", "/ready")
                self.end_headers()
                if ops.drips:
                    for _ in range(200):
                        try:
                            self.wfile.write(b".")
                            self.wfile.flush()
                        except OSError:
                            return
                        time.sleep(0.05)
                self.wfile.write(b"no such release")

            do_GET = do_PUT = do_POST = answer  # noqa: N815  (the names it is asked by)

            def log_message(self, *_: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_port}"
        self.thread = threading.Thread(target=self.server.serve_forever, daemon=True)
        self.thread.start()

    def paths(self) -> list[str]:
        return [path for _, path, _, _ in self.asked]

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()
