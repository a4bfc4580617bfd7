"""Talks to a running installation over HTTP, as a browser would."""

from __future__ import annotations

import http.cookiejar
import json
import time
import urllib.request
from typing import Any

ANSWER_LIMIT_S = 30.0


class Session:
    """Signed in where a name is given. Waits at first for somebody to answer."""

    def __init__(self, port: int, name: str = "", password: str = "") -> None:
        self._base = f"http://127.0.0.1:{port}"
        self._cookies = http.cookiejar.CookieJar()
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self._cookies))
        if name:
            give_up = time.monotonic() + ANSWER_LIMIT_S
            while True:
                try:
                    self.get("/api/me")
                    break
                except OSError:
                    if time.monotonic() > give_up:
                        raise
                    time.sleep(0.2)
            self.post("/api/sign-in", {"name": name, "password": password})

    def text(self, path: str) -> str:
        with self._opener.open(self._base + path, timeout=ANSWER_LIMIT_S) as answer:
            return str(answer.read().decode())

    def get(self, path: str) -> Any:
        return json.loads(self.text(path))

    def post(self, path: str, body: dict[str, Any]) -> Any:
        token = next((cookie.value for cookie in self._cookies if cookie.name == "kettle_csrf"), None) or ""
        headers = {"Content-Type": "application/json", "X-CSRFToken": token}
        request = urllib.request.Request(self._base + path, json.dumps(body).encode(), headers, method="POST")
        with self._opener.open(request, timeout=ANSWER_LIMIT_S) as answer:
            return json.loads(answer.read() or "null")
