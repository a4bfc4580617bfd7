"""Probes over real sockets: servers that keep connections and such that do not, and such that answer badly or never."""

from __future__ import annotations

import copy
import socketserver
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
import yaml

from stonekettle.cli.bench import storm
from stonekettle.cli.run import PracticeProcess
from stonekettle.engine.allowance import LOOPBACK
from stonekettle.engine.local import practice_directory
from stonekettle.engine.probing import LANES, Prober
from tests.ops import Ops

EVERY_S = 0.25


def probe(asked: dict[int, str], within_s: float = 5.0, every_s: float = EVERY_S, **more: str) -> Prober:
    with Prober(asked, 200, every_s, within_s, LOOPBACK.refusal, more) as prober:
        assert prober.over.wait(within_s + 12)
    return prober


@contextmanager
def answering(answer: Callable[[bytes], bytes | None]) -> Iterator[str]:
    """A server that says these bytes to whatever it is asked (None: nothing, ever), and stays on the line."""

    class Handler(socketserver.BaseRequestHandler):
        def handle(self) -> None:
            while asked := self.request.recv(65_536):
                if (said := answer(asked)) is not None:
                    self.request.sendall(said)

    class Server(socketserver.ThreadingTCPServer):
        allow_reuse_address = daemon_threads = True

    with Server(("127.0.0.1", 0), Handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{server.server_address[1]}"
        server.shutdown()


def test_each_is_seen_within_one_interval_of_when_it_is_ready() -> None:
    ops = Ops()
    try:
        begun = time.monotonic()
        ops.up = {f"/{n}": begun + 0.4 + 0.05 * n for n in range(30)}
        prober = probe({n: f"{ops.url}/{n}" for n in range(30)})
    finally:
        ops.close()
    for number, one in prober.probed.items():
        assert one.ready_at is not None
        # A machine that is busy is later, and never too early.
        assert ops.up[f"/{number}"] <= one.ready_at <= ops.up[f"/{number}"] + EVERY_S + 2
        assert one.last == "status 200"
    assert prober.ready_now == 30
    # What is ready is not asked any more.
    assert max(one.asked for one in prober.probed.values()) < 40


def test_connections_are_kept_and_shared() -> None:
    lines: set[int] = set()

    def answer(asked: bytes) -> bytes:
        lines.add(threading.get_ident())
        assert b"\r\nX-Key: open\r\n" in asked
        return b"HTTP/1.1 503 Later\r\nContent-Length: 3\r\n\r\nnot"

    with answering(answer) as url:
        prober = probe({n: f"{url}/{n}" for n in range(200)}, within_s=2.0, **{"X-Key": "open"})
    assert len(lines) <= LANES
    assert all(one.asked >= 2 and one.last == "status 503" for one in prober.probed.values())


@pytest.mark.parametrize(
    ("said", "ready"),
    [
        (b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n", True),
        (b"HTTP/1.0 200 OK\r\n\r\n", True),
        (b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\n", True),
        (b"HTTP/1.1 200 OK\r\nContent-Length: 90000000\r\n\r\nvery long", True),
        (b"HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 2\r\n\r\nok", True),
        (b"HTTP/1.1 204 No Content\r\n\r\n", False),
        (b"SSH-2.0-something\r\n\r\n", False),
        (b"x" * 70_000, False),
    ],
)
def test_the_status_alone_counts_whatever_the_answer_is_like(said: bytes, ready: bool) -> None:
    with answering(lambda asked: said) as url:
        prober = probe({1: f"{url}/", 2: f"{url}/2"}, within_s=1.5)
    assert [one.ready_at is not None for one in prober.probed.values()] == [ready, ready], prober.probed


def test_who_does_not_answer_or_is_not_there_is_told_and_the_others_go_on() -> None:
    ops = Ops()
    try:
        ops.up = {"/up": 0.0}
        with answering(lambda asked: None) as silent:
            asked = {1: f"{ops.url}/up", 2: "http://127.0.0.1:9/gone", 3: f"{silent}/", 4: "http://nowhere.invalid/"}
            prober = probe(asked, within_s=2.0)
    finally:
        ops.close()
    told = prober.probed
    assert told[1].ready_at is not None
    assert [told[n].ready_at for n in (2, 3, 4)] == [None, None, None]
    assert "refused" in told[2].last.lower() or "connect" in told[2].last.lower()
    assert told[4].last != "not asked yet"


def test_nothing_is_asked_where_load_may_not_go() -> None:
    ops = Ops()
    try:
        with Prober({1: f"{ops.url}/up"}, 200, EVERY_S, 1.0, lambda address, port: "is not allowed") as prober:
            prober.over.wait(10)
    finally:
        ops.close()
    assert ops.asked == []
    assert "127.0.0.1 is not allowed" in prober.probed[1].last


def test_what_was_not_started_is_not_asked_after() -> None:
    ops = Ops()
    try:
        ops.up = {"/1": 0.0}
        with Prober({1: f"{ops.url}/1", 2: f"{ops.url}/2"}, 200, EVERY_S, 20.0, LOOPBACK.refusal) as prober:
            prober.leave_out(2, "not started: no room")
            assert prober.over.wait(10)  # long before the time is up
    finally:
        ops.close()
    assert prober.probed[2].last == "not started: no room"
    assert prober.ready_now == 1


def test_a_storm_of_the_practice_cloud_is_seen_as_its_log_has_it(tmp_path: Path) -> None:
    told = copy.deepcopy(storm.CONFIG)
    told["components"][1] |= {"boots_s": 1.5}
    (tmp_path / "practice.yaml").write_text(yaml.safe_dump(told))
    with PracticeProcess(tmp_path / "practice.yaml") as system:
        found = storm.stormed(practice_directory(system.control_url)["cloud"][0], 100)
    assert (found.asked, found.ready) == (100, 100)
    # By two clocks and over sockets; a machine that is busy is later, and never too early.
    assert found.off_s.min() > -0.1
    assert found.off_s.max() < storm.EVERY_S + 3
