"""What the practice system tells of single requests, and whom."""

from __future__ import annotations

import asyncio
import json
import time
from pathlib import Path

import aiohttp
import pytest
from aiohttp import web
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from opentelemetry.proto.trace.v1.trace_pb2 import Span, Status

from stonekettle.practice.config import quillport
from stonekettle.practice.server import PracticeServer
from stonekettle.practice.telling import MOST_FAILED, SLOWEST, Part, Telling, Walk

TRACE = "0000000c00000003000000020000001a"
SENDER = "00000003001a0001"


def spans_of(request: ExportTraceServiceRequest) -> list[tuple[str, Span]]:
    """Each span with the service that tells of it."""
    return [
        (resource.resource.attributes[0].value.string_value, span)
        for resource in request.resource_spans
        for scope in resource.scope_spans
        for span in scope.spans
    ]


async def pushed_by(path: Path) -> tuple[str, str, ExportTraceServiceRequest]:
    """Where the first push went for which requests that ask for it were sent, with which authorization, and what."""
    pushed: asyncio.Queue[tuple[str, str, bytes]] = asyncio.Queue()

    async def take(request: web.Request) -> web.Response:
        await pushed.put((request.path, request.headers["Authorization"], await request.read()))
        return web.Response()

    app = web.Application()
    app.router.add_post("/{path:.*}", take)
    runner = web.AppRunner(app)
    await runner.setup()
    await web.TCPSite(runner, "127.0.0.1", 0).start()
    practice = PracticeServer(quillport(), report_to=(f"http://127.0.0.1:{runner.addresses[0][1]}", path))
    await practice.start()
    try:
        async with aiohttp.ClientSession() as session:
            while pushed.empty():
                asks = {"traceparent": f"00-{TRACE}-{SENDER}-01"}
                async with session.post(f"{practice.directory['gateway'][0]}/tickets", headers=asks) as answer:
                    assert "ledger;dur=" in answer.headers["Server-Timing"]
        where, token, body = await pushed.get()
    finally:
        await practice.stop()
        await runner.cleanup()
    return where, token, ExportTraceServiceRequest.FromString(body)


def test_a_request_that_asks_for_it_is_told_by_every_component(tmp_path: Path) -> None:
    path = tmp_path / "listeners.json"
    path.write_text(json.dumps([{"system": 4, "token": "kettle-secret"}]))
    where, token, request = asyncio.run(asyncio.wait_for(pushed_by(path), 60))
    assert (where, token) == ("/api/systems/4/v1/traces", "Bearer kettle-secret")
    spans = spans_of(request)
    assert {service for service, _ in spans} == {"gateway", "ledger"}
    assert all(span.trace_id.hex() == TRACE for _, span in spans)
    root = next(span for _, span in spans if span.parent_span_id.hex() == SENDER)
    assert root.name == "POST /tickets"
    assert abs(root.end_time_unix_nano / 1e9 - time.time()) < 60
    ledger = next(span for service, span in spans if service == "ledger" and span.parent_span_id == root.span_id)
    assert any(span.name == "disk" and span.parent_span_id == ledger.span_id for _, span in spans)


@pytest.fixture
def telling(tmp_path: Path) -> Telling:
    path = tmp_path / "listeners.json"
    path.write_text('[{"system": 1, "token": "x"}]')
    made = Telling("http://127.0.0.1:9", path, 0.0)
    made.look_who_listens()
    return made


def walk(telling: Telling, took_s: float, asks: bool = False, failed: bool = False) -> Walk:
    made = telling.begin(f"00-{TRACE}-{SENDER}-{'01' if asks else '00'}", "GET /")
    assert made is not None
    made.add(Part("ledger", 1, "GET /", made.ids(), made.root, 5.0, 5.0 + took_s, failed), [("disk", 5.0, 5.01)])
    telling.end(made, "gateway")
    return made


def test_the_slowest_of_a_second_the_failed_and_those_that_ask_are_told(telling: Telling) -> None:
    for took in range(1, 10):
        walk(telling, took)
    asking = walk(telling, 0.5, asks=True)
    failed = [walk(telling, 0.1, failed=True) for _ in range(MOST_FAILED + 5)]
    told = telling.take()
    assert asking in told
    assert sum(one in told for one in failed) == MOST_FAILED
    slow = sorted(one.parts[0].end - 5 for one in told if one is not asking and not one.failed)
    assert slow == [8, 9][-SLOWEST:]
    assert telling.take() == []
    request = telling.request_of([failed[0]])
    assert {span.status.code for _, span in spans_of(request) if span.kind == Span.SPAN_KIND_SERVER} == {
        Status.STATUS_CODE_ERROR
    }


@pytest.mark.parametrize("told", [None, "[]", "{", '[{"system": "x"}]', "[3]"])
def test_where_nobody_listens_nothing_is_followed(telling: Telling, told: str | None) -> None:
    assert telling.begin(None, "GET /") is None
    assert telling.begin("99-no-trace", "GET /") is None
    if told is None:
        telling._file.unlink()
    else:
        telling._file.write_text(told)
        telling._read_at = None
    telling.look_who_listens()
    assert telling.begin(f"00-{TRACE}-{SENDER}-01", "GET /") is None
