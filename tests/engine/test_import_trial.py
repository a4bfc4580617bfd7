"""A recording of a site that signs in with tokens: it passes its trial on fresh ones, never on recorded ones."""

from __future__ import annotations

import json
import secrets
import threading
from base64 import b64decode
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest

from stonekettle.engine.script import compile_plan
from stonekettle.engine.trial import JourneyTrial, try_journey
from stonekettle.plan import document
from stonekettle.plan.imports import files
from tests.plan.imports.test_har import entry, recording

RECORDED = "rec-0rded-token-1"


class TokenSite(ThreadingHTTPServer):
    """Gives each who signs in an access token and a basket; takes the token as bearer, the basket as a cookie
    a script would set, and their signature in base64."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), TokenHandler)
        self.tokens: dict[str, str] = {}
        self.riders: list[str] = []
        self.url = f"http://127.0.0.1:{self.server_address[1]}"


class TokenHandler(BaseHTTPRequestHandler):
    server: TokenSite

    def answer(self, status: int, content: Any) -> None:
        body = json.dumps(content).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Set-Cookie", "sid=s1; Path=/")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def do_POST(self) -> None:
        given = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
        if self.path == "/api/login":
            token, basket = f"tok-{secrets.token_hex(8)}", f"bas-{secrets.token_hex(4)}"
            self.server.tokens[token] = basket
            self.server.riders.append(given["rider"])
            return self.answer(200, {"access": token, "basket": basket})
        token = self.headers.get("Authorization", "").removeprefix("Bearer ")
        cookies = self.headers.get_all("Cookie") or []
        basket = self.server.tokens.get(token)
        signed = b64decode(given["signature"]).decode() == basket
        good = basket is not None and signed and len(cookies) == 1 and f"basket={basket}" in cookies[0]
        return self.answer(200 if good and "sid=s1" in cookies[0] else 401, {"bought": good})

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def site() -> Iterator[TokenSite]:
    server = TokenSite()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()
    server.server_close()


HAR = recording(
    entry(0, "POST /api/login", json.dumps({"access": RECORDED, "basket": "bas-12345678"}), kind="application/json",
          body={"rider": "r-1"}, set_cookie="sid=s9; Path=/"),
    entry(2, "POST /api/buy", json.dumps({"bought": True}), kind="application/json",
          body={"signature": "YmFzLTEyMzQ1Njc4"},
          sent={"Authorization": f"Bearer {RECORDED}", "Cookie": "sid=s9; basket=bas-12345678"}),
)  # fmt: skip


def tried(site: TokenSite, accept: set[str], user: int = 1, rider: str = "r-1") -> JourneyTrial:
    found = files.read(HAR, "Buy", "")
    journey = {key: value for key, value in found.accepted(accept).items() if key != "system"}
    journey["steps"][0]["json"] = {"rider": rider}
    plan = {
        "name": "p",
        "system": {"name": "s", "base_url": site.url},
        "feeds": [{"name": "riders", "csv": "who\nanna\nberta\n"}],
        "journeys": [journey],
        "load": [{"hold": {"users": 1, "for": "10 s"}}],
    }
    return try_journey(compile_plan(document.from_document(plan)), site.url, 0, user=user)


def test_tokens_cookies_of_scripts_and_other_writings_are_those_of_each_visit(site: TokenSite) -> None:
    proposals = files.read(HAR, "Buy", "").proposals
    assert [(p.name, p.sure, [place.where for place in p.used]) for p in proposals] == [
        ("access", True, ["header authorization"]),
        ("basket", True, ["cookie basket", "JSON $.signature"]),
    ]
    trial = tried(site, {"access", "basket"})
    assert trial.passed, trial.reason
    assert RECORDED not in str(trial)
    assert not any(token in str(trial) for token in site.tokens)


def test_what_was_recorded_passes_nowhere_else(site: TokenSite) -> None:
    for accept in (set(), {"access"}, {"basket"}):
        assert "expects status 200 and got 401" in tried(site, accept).reason


def test_another_user_has_the_row_of_that_one(site: TokenSite) -> None:
    for user in (1, 2):
        assert tried(site, {"access", "basket"}, user, "{{who}} {{user_number}}").passed
    assert site.riders == ["anna 1", "berta 2"]
