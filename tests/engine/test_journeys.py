"""Whole journeys under load: values kept, cookies, redirects, methods, files fetched beside the page."""

from __future__ import annotations

import json
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import numpy as np
import pytest

from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.engine.records import ERRORS, PART, WHOLE, view
from stonekettle.engine.rollup import Second, fold
from stonekettle.engine.script import compile_plan
from stonekettle.plan import document
from tests.engine.conftest import loop_of


class Shop(ThreadingHTTPServer):
    """Hands out tokens with a cookie, sells for both together once, redirects, serves files."""

    daemon_threads = True
    request_queue_size = 256

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server_address[1]}"
        self.open: dict[str, str] = {}
        self.seen: Counter[str] = Counter()
        self.refused: list[str] = []
        self.at_once = self.most_at_once = 0
        self.lock = threading.Lock()

    def handle_error(self, request: object, client_address: object) -> None:
        """A user that leaves closes its connection; that is no error here."""


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    server: Shop

    def answer(self, status: int, body: str, **headers: str) -> None:
        self.send_response(status)
        self.send_header("Content-Length", str(len(body)))
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body.encode())

    def handle_any(self) -> None:
        shop, path = self.server, self.path.partition("?")[0]
        sent = self.rfile.read(int(self.headers.get("Content-Length") or 0)).decode()
        with shop.lock:
            shop.seen[f"{self.command} {path}"] += 1
            number = str(sum(shop.seen.values()))
        if path == "/form":
            with shop.lock:
                shop.open[f"tok {number}&="] = number
            page = f'<input type=hidden name="token" value="tok {number}&amp;=">'
            return self.answer(200, page, Set_Cookie=f"basket={number}")
        if path == "/buy":
            fields = dict(pair.split("=") for pair in sent.split("&"))
            token = fields["token"].replace("%20", " ").replace("%26", "&").replace("%3D", "=")
            with shop.lock:
                basket = shop.open.pop(token, None)
            if basket is None or f"basket={basket}" not in self.headers.get("Cookie", ""):
                shop.refused.append(sent)
                return self.answer(409, "{}")
            return self.answer(201, json.dumps({"ticket": {"number": f"T-{basket}"}}))
        if path == "/go":
            return self.answer(302, "", Location="/landed")
        if path.startswith("/file"):
            with shop.lock:
                shop.at_once += 1
                shop.most_at_once = max(shop.most_at_once, shop.at_once)
            time.sleep(0.02)
            with shop.lock:
                shop.at_once -= 1
            return self.answer(404 if path == "/file-gone" else 200, "x" * 500)
        return self.answer(200, "landed" if path == "/landed" else "ok")

    do_GET = do_POST = do_PUT = do_DELETE = do_HEAD = handle_any  # noqa: N815

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def shop() -> Iterator[Shop]:
    server = Shop()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()
    server.server_close()


class Played:
    """A run of one journey of these steps, in this process, at one level of users or at several."""

    def __init__(
        self,
        shop: Shop,
        *steps: dict[str, Any],
        users: int = 6,
        seconds: float = 1.0,
        levels: tuple[int, ...] = (),
        **journey: Any,
    ) -> None:
        named = [{"name": f"step {i}", "think": "5 ms", **step} for i, step in enumerate(steps)]
        feeds = journey.pop("feeds", [])
        plan = document.from_document(
            {
                "name": "test",
                "system": {"name": "s", "base_url": shop.url},
                "feeds": feeds,
                "journeys": [{"name": "j", "steps": named, **journey}],
                "load": [{"hold": {"users": users, "for": "1 s"}}],
            }
        )
        self.chunks: list[bytes] = []
        self.seconds: list[Second] = []
        profile = LoadProfile(tuple(Segment.hold(level, seconds) for level in levels or (users,)))
        loop_of(plan, self._keep, profile).run(time.perf_counter())
        self.records = np.concatenate([view(chunk) for chunk in self.chunks])
        self.errors = Counter(ERRORS[e] for e in self.records["error"])

    def _keep(self, second: Second, data: bytes) -> None:
        self.seconds.append(second)
        self.chunks.append(data)


ONE_CELL = np.zeros((1, 1), dtype=np.int64)
FORM = {"request": "GET /form", "keep": [{"name": "token", "field": "token"}]}
BUY = {
    "request": "POST /buy",
    "form": {"token": "{{token}}", "zone": "A"},
    "expect_status": 201,
    "keep": [{"name": "ticket", "json": "$.ticket.number"}],
    "checks": [{"json": "$.ticket.number", "exists": True}],
}
CANCEL = {"request": "DELETE /tickets/{{ticket}}"}


def test_values_and_cookies_belong_to_their_journey(shop: Shop) -> None:
    played = Played(shop, FORM, BUY, CANCEL, session={"cookies": "journey"})
    assert played.errors == {"none": len(played.records)}
    assert shop.refused == []
    bought = shop.seen["POST /buy"]
    assert bought > 30
    cancelled = [key for key in shop.seen if key.startswith("DELETE /tickets/T-")]
    assert bought - 6 <= len(cancelled) <= bought


def test_users_without_a_row_retire_and_nobody_takes_their_place(shop: Shop) -> None:
    feed = {"name": "riders", "csv": "rider\na\nb\nc\n", "take": "one per user", "end": "retire"}
    played = Played(shop, {"request": "GET /hello?rider={{rider}}"}, users=8, seconds=1.5, feeds=[feed])
    assert set(played.records["user"].tolist()) == {0, 1, 2}
    assert 1.5 < played.seconds[0].users < 3.3  # a busy machine lets them in late, and never more of them
    once = Played(shop, {"request": "GET /once?rider={{rider}}"}, users=2, feeds=[{**feed, "take": "in order"}])
    assert shop.seen["GET /once"] == len(once.records) == 3


def test_users_retired_at_a_high_load_are_not_missed_at_a_lower_one(shop: Shop) -> None:
    rows = "rider\n" + "".join(f"r{i}\n" for i in range(8))
    feed = {"name": "riders", "csv": rows, "take": "one per user", "end": "retire"}
    step = {"request": "GET /hello?rider={{rider}}"}
    seconds = Played(shop, step, users=14, levels=(10, 14, 12, 5, 9), feeds=[feed]).seconds
    present = [second.users for second in seconds[:5]]
    assert present == pytest.approx([8, 8, 8, 5, 8], abs=0.6)


def test_a_failed_check_is_an_error_of_its_own_kind_and_ends_the_journey(shop: Shop) -> None:
    played = Played(shop, {**FORM, "checks": [{"contains": "sold out"}]}, BUY)
    assert played.errors == {"check": len(played.records)}
    assert shop.seen["POST /buy"] == 0


def test_a_value_that_is_not_there_is_told(shop: Shop) -> None:
    played = Played(shop, {"request": "GET /ok", "keep": [{"name": "token", "field": "token"}]}, BUY)
    assert played.errors == {"value not found": len(played.records)}


def test_methods_do_not_leak_into_the_next_request(shop: Shop) -> None:
    played = Played(
        shop,
        {"request": "PUT /a", "json": {"a": 1}},
        {"request": "GET /b"},
        {"request": "HEAD /c"},
        {"request": "POST /d", "body": "raw"},
        {"request": "DELETE /e"},
        {"request": "GET /f"},
        users=2,
    )
    assert set(shop.seen) == {"PUT /a", "GET /b", "HEAD /c", "POST /d", "DELETE /e", "GET /f"}
    assert played.errors == {"none": len(played.records)}


@pytest.mark.parametrize(("redirects", "error"), [(True, "none"), (False, "status")])
def test_redirects_are_followed_when_asked(shop: Shop, redirects: bool, error: str) -> None:
    checks = [{"contains": "landed"}] if redirects else []
    played = Played(shop, {"request": "GET /go", "redirects": redirects, "checks": checks}, users=2)
    assert set(played.errors) == {error}
    assert (shop.seen["GET /landed"] > 0) == redirects


@pytest.mark.parametrize("life", ["journey", "life"])
def test_connections_last_as_long_as_asked(shop: Shop, life: str) -> None:
    played = Played(shop, {"request": "GET /a"}, {"request": "GET /b"}, users=3, session={"connections": life})
    new = int((played.records["flags"] & 1).sum())
    firsts = int((played.records["step"] == 0).sum())
    assert new == (firsts if life == "journey" else 3)


def test_files_are_fetched_in_parallel_and_the_step_counts_as_one(shop: Shop) -> None:
    page = {"request": "GET /page", "accompanying": [f"/file-{i}" for i in range(12)]}
    played = Played(shop, page, users=1, session={"cache": False})
    flags = played.records["flags"]
    whole = played.records[(flags & WHOLE) > 0]
    assert shop.most_at_once == 6
    assert len(whole) == shop.seen["GET /page"] >= 5
    assert int(((flags & PART) > 0).sum()) == sum(shop.seen.values())
    assert np.median(whole["total_us"]) > 40_000  # twelve files of 20 ms, six at a time
    folded = [fold(s, view(c), ONE_CELL)[0] for s, c in zip(played.seconds, played.chunks, strict=True)]
    assert sum(sum(f.completed) for f in folded) == len(whole)
    assert sum(sum(f.started) for f in played.seconds) == len(whole)


def test_files_are_fetched_once_by_users_that_keep_them(shop: Shop) -> None:
    page = {"request": "GET /page", "accompanying": ["/file-a"]}
    Played(shop, page, users=3)
    assert shop.seen["GET /page"] > 10
    assert shop.seen["GET /file-a"] == 3


def test_a_missing_icon_spoils_no_step_but_is_counted(shop: Shop) -> None:
    page = {"request": "GET /page", "accompanying": ["/file-gone"]}
    played = Played(shop, page, users=2)
    folded = [fold(s, view(c), ONE_CELL)[0] for s, c in zip(played.seconds, played.chunks, strict=True)]
    assert sum(sum(f.errors) for f in folded) == 0
    assert sum(f.failed_parts for f in folded) == shop.seen["GET /file-gone"] == 2


@pytest.mark.parametrize(
    ("session", "header"),
    [
        ({"credentials": {"bearer": "abc"}}, "Bearer abc"),
        ({"credentials": {"user": "anna", "password": "p"}}, "Basic YW5uYTpw"),
    ],
)
def test_sessions_carry_credentials(make_plan: Callable[..., Any], session: dict[str, Any], header: str) -> None:
    plan = make_plan()
    made = {**document.to_document(plan)}
    made["journeys"][0]["session"] = {**session, "user_agent": "tram browser 3"}
    request = compile_plan(document.from_document(made)).journeys[0][0]
    assert f"Authorization: {header}".encode() in request.headers
    assert b"User-Agent: tram browser 3" in request.headers
