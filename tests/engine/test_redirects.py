"""Redirects followed hop by hop, and every request told apart: by its user, visit, step, part, and trace."""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import numpy as np
import pytest

from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.engine.records import ERRORS, LED_ON, PART, WHOLE, Records, trace_id, view
from stonekettle.engine.rollup import Second, fold
from stonekettle.engine.script import cell_numbers, compile_plan
from stonekettle.engine.trial import try_journey
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from tests.engine.conftest import loop_of


@dataclass(frozen=True)
class Line:
    """A line of the server's own log."""

    method: str
    path: str
    headers: dict[str, str]
    body: str

    @property
    def trace(self) -> str:
        return self.headers["traceparent"].split("-")[1]

    @property
    def part(self) -> int:
        return int(self.headers["traceparent"].split("-")[2][-4:], 16) - 1


class Site(ThreadingHTTPServer):
    """Leads on by a path's own words: ``/302/303/end``; ``there`` is where ``/away`` leads."""

    daemon_threads = True
    request_queue_size = 64

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server_address[1]}"
        self.there = ""
        self.log: list[Line] = []

    def handle_error(self, request: object, client_address: object) -> None:
        """Users who leave close their connections."""


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: Site

    def handle_any(self) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0)).decode()
        sent = {name.lower(): value for name, value in self.headers.items()}
        self.server.log.append(Line(self.command, self.path, sent, body))
        first, _, rest = self.path[1:].partition("/")
        if first == "away":
            self.answer(302, Location=f"{self.server.there}/end")
        elif first == "around":
            self.answer(302, Location="/around")
        elif first == "slow":
            time.sleep(0.2)
            self.answer(302, Location="/slow")
        elif first.isdigit():
            self.answer(int(first), Location=f"/{rest}", Set_Cookie=f"hop{first}=1; Path=/")
        else:
            self.answer(200)

    def answer(self, status: int, **headers: str) -> None:
        self.send_response(status)
        self.send_header("Content-Length", "2")
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(b"ok")

    do_GET = do_POST = do_PUT = do_HEAD = handle_any  # noqa: N815

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def site() -> Iterator[Site]:
    server = Site()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()
    server.server_close()


def plan_of(site: Site, *steps: dict[str, Any]) -> Plan:
    named = [{"name": f"s{i}", "think": "5 ms", "redirects": True, **step} for i, step in enumerate(steps)]
    return document.from_document(
        {
            "name": "test",
            "system": {"name": "s", "base_url": site.url},
            "journeys": [{"name": "j", "steps": named}],
            "load": [{"hold": {"users": 3, "for": "1 s"}}],
        }
    )


class Played:
    def __init__(self, plan: Plan, seconds: float = 0.6, levels: tuple[int, ...] = (3,)) -> None:
        chunks: list[bytes] = []
        self.seconds: list[tuple[Second, bytes]] = []

        def keep(second: Second, data: bytes) -> None:
            chunks.append(data)
            self.seconds.append((second, data))

        profile = LoadProfile(tuple(Segment.hold(level, seconds) for level in levels))
        loop_of(plan, keep, profile, seed=7).run(time.perf_counter())
        self.records: Records = np.concatenate([view(chunk) for chunk in chunks])

    @property
    def on_wire(self) -> Records:
        return self.records[self.records["flags"] & WHOLE == 0]

    @property
    def errors(self) -> Counter[str]:
        whole = self.records[self.records["flags"] & PART == 0]
        return Counter(ERRORS[e] for e in whole["error"])


def test_every_line_of_the_servers_log_is_a_record_and_tells_whose_it_is(site: Site) -> None:
    plan = plan_of(
        site,
        {"request": "GET /302/307/page", "accompanying": ["/a.css", "/301/b.css", "/c.css", "/302/d.css", "/e.css"]},
        {"request": "GET /plain"},
    )
    played = Played(plan, levels=(3, 1, 4))  # users leave, and come back
    found, log = played.on_wire, site.log
    assert len(found) == len(log) > 50
    trial = try_journey(compile_plan(plan), site.url, 0)
    assert trial.requests == len(site.log) - len(found) == 11
    log = log[: len(found)]
    by_trace = {(trace_id(7, int(r["user"]), int(r["visit"]), int(r["step"])), int(r["part"])): r for r in found}
    assert len(by_trace) == len(found)
    assert set(by_trace) == {(line.trace, line.part) for line in log}
    # One visit of one user, put together from records, is that user's lines of the log.
    user, visit = int(found[len(found) // 2]["user"]), int(found[len(found) // 2]["visit"])
    own = np.sort(found[(found["user"] == user) & (found["visit"] == visit)], order=["step", "part"])
    lines = [line for line in log if line.trace[8:24] == f"{user:08x}{visit:08x}"]
    lines.sort(key=lambda line: (line.trace, line.part))
    assert [line.path for line in lines[:3]] == ["/302/307/page", "/307/page", "/page"]
    assert [bool(r["flags"] & LED_ON) for r in own[:3]] == [True, True, False]
    assert [int(r["status"]) for r in own[:3]] == [302, 307, 200]
    assert len(own) == len(lines)
    assert played.errors == {"none": len(played.records) - int((played.records["flags"] & PART > 0).sum())}


def test_a_step_with_redirects_counts_once_by_its_whole_time(site: Site) -> None:
    plan = plan_of(site, {"request": "GET /302/303/end"})
    played = Played(plan)
    folded = [fold(second, view(data), cell_numbers(plan))[0] for second, data in played.seconds]
    steps, requests = (sum(sum(getattr(f, name)) for f in folded) for name in ("completed", "requests"))
    assert requests == len(site.log) == 3 * steps
    assert sum(sum(f.started) for f in folded) == steps
    whole = played.records[played.records["flags"] & WHOLE > 0]
    hops = played.on_wire
    for one in whole[:10]:
        own = hops[(hops["user"] == one["user"]) & (hops["visit"] == one["visit"])]
        assert one["total_us"] >= own["total_us"].sum()
        assert one["start_us"] == own["start_us"].min()


@pytest.mark.parametrize(
    ("request_line", "methods", "bodies"),
    [
        ("POST /302/end", ["POST", "GET"], ["a=b", ""]),
        ("POST /301/end", ["POST", "GET"], ["a=b", ""]),
        ("POST /303/end", ["POST", "GET"], ["a=b", ""]),
        ("POST /307/308/end", ["POST", "POST", "POST"], ["a=b", "a=b", "a=b"]),
        ("PUT /302/end", ["PUT", "PUT"], ["a=b", "a=b"]),
        ("PUT /303/end", ["PUT", "GET"], ["a=b", ""]),
        ("HEAD /303/end", ["HEAD", "HEAD"], ["", ""]),
    ],
)
def test_methods_and_bodies_go_on_as_in_browsers(
    site: Site, request_line: str, methods: list[str], bodies: list[str]
) -> None:
    step = {"request": request_line, **({} if request_line.startswith("HEAD") else {"form": {"a": "b"}})}
    plan = plan_of(site, step, {"request": "GET /after"})
    trial = try_journey(compile_plan(plan), site.url, 0)
    tried, site.log = site.log, []
    assert trial.passed, trial.reason
    assert set(Played(plan).errors) == {"none"}
    for log in (tried, [line for line in site.log if line.trace[8:24] == f"{0:08x}{1:08x}"]):
        step_lines = [line for line in log if line.path != "/after"]
        assert [line.method for line in step_lines] == methods
        assert [line.body for line in step_lines] == bodies
        assert [("content-type" in line.headers) for line in step_lines] == [bool(body) for body in bodies]
        assert [line.method for line in log if line.path == "/after"] == ["GET"]


def test_cookies_of_a_hop_go_on_and_secrets_do_not_leave(site: Site) -> None:
    other = Site()
    threading.Thread(target=other.serve_forever, daemon=True).start()
    site.there = other.url
    headers = {"Authorization": "Bearer hush", "Cookie": "mine=1", "X-Zone": "A"}
    plan = plan_of(site, {"request": "GET /302/away", "headers": headers})
    assert try_journey(compile_plan(plan), site.url, 0).passed
    assert set(Played(plan).errors) == {"none"}
    for line in site.log:
        assert line.headers["authorization"] == "Bearer hush"
        assert "mine=1" in line.headers["cookie"]
        assert ("hop302=1" in line.headers["cookie"]) or line.path == "/302/away"
    assert len(other.log) == len(site.log) / 2 > 3
    for line in other.log:
        assert "authorization" not in line.headers
        assert "mine" not in line.headers.get("cookie", "")
        assert line.headers["x-zone"] == "A"
    other.shutdown()
    other.server_close()


def test_who_is_led_around_gives_up(site: Site) -> None:
    plan = plan_of(site, {"request": "GET /around"})
    trial = try_journey(compile_plan(plan), site.url, 0)
    assert "led on more than 10 times" in trial.reason
    assert len(site.log) == 11
    played = Played(plan)
    assert set(played.errors) == {"other"}
    assert len(played.on_wire) == len(site.log) - 11


def test_the_time_limit_is_for_all_hops_together(site: Site) -> None:
    plan = plan_of(site, {"request": "GET /slow", "time_limit": "500 ms"})
    assert set(Played(plan).errors) == {"time limit"}
    trial = try_journey(compile_plan(plan), site.url, 0)
    assert not trial.passed
    assert sum(line.path == "/slow" for line in site.log if line.trace == site.log[0].trace) == 3


def test_a_trace_of_the_plans_own_is_left_alone(site: Site) -> None:
    own = f"00-{'ab' * 16}-{'cd' * 8}-01"
    Played(plan_of(site, {"request": "GET /plain", "headers": {"Traceparent": own}}))
    assert {line.headers["traceparent"] for line in site.log} == {own}
