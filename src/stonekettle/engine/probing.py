"""Asks after thousands of instances, each now and then until it is ready, from a loop on a thread of its own.

Probes of one origin share a few connections that stay open, and what is asked is spread evenly over the time between
two rounds, so that many of them cost little here and come as no burst there. Of an answer the status counts alone.
"""

from __future__ import annotations

import asyncio
import heapq
import re
import ssl
import threading
import time
from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field
from urllib.parse import urlsplit

from stonekettle import resolving
from stonekettle.meters.endpoint import Refusal

LANES = 32
"""Connections to one origin at the most."""
MOST_LANES = 2_000
ANSWERS_WITHIN_S = 10.0
MOST_HEAD = 64_000
TICK_S = 0.02
_LENGTH = re.compile(rb"\r\ncontent-length:[ \t]*(\d+)", re.IGNORECASE)
_CLOSES = re.compile(rb"\r\nconnection:[ \t]*close", re.IGNORECASE)
_STATUS = re.compile(rb"HTTP/1\.([01]) (\d{3})")


@dataclass(slots=True)
class Probed:
    """An instance by its number: when it answered as expected (monotonic s; None: not yet), how often it was asked, and
    what came of it last."""

    number: int
    ready_at: float | None = None
    asked: int = 0
    last: str = "not asked yet"


@dataclass(slots=True, eq=False)
class _Origin:
    host: str
    port: int
    tls: bool
    idle: deque[_Lane] = field(default_factory=deque)
    waiting: deque[int] = field(default_factory=deque)
    lanes: int = 0


class Prober:
    """``asked`` are addresses by the numbers of instances. Each is asked ``every_s`` until it answers with the status
    ``expect``, for ``within_s`` at the most. ``refusal`` says of an address and a port why it may not be gone to.
    Use as a context: :attr:`over` is set once all are ready or the time is up."""

    def __init__(
        self,
        asked: Mapping[int, str],
        expect: int,
        every_s: float,
        within_s: float,
        refusal: Refusal,
        headers: Mapping[str, str] | None = None,
    ) -> None:
        self.probed = {number: Probed(number) for number in asked}
        self.over = threading.Event()
        self.latest_s = 0.0
        """By how much a question was later than it should have been, at the worst."""
        self.cpu_s = 0.0
        self._expect, self._every_s, self._within_s, self._refusal = expect, every_s, within_s, refusal
        self._headers = "".join(f"{name}: {value}\r\n" for name, value in (headers or {}).items())
        self._origins: dict[tuple[str, int, bool], _Origin] = {}
        self._requests: dict[int, tuple[_Origin, bytes]] = {}
        for number, url in asked.items():
            self._requests[number] = self._request(url)
        self._left = len(asked)
        self._left_out: deque[tuple[int, str]] = deque()
        self._stopped = False
        self.lanes: set[_Lane] = set()
        self._opening: set[asyncio.Task[None]] = set()
        self._thread = threading.Thread(target=self._run, name="prober", daemon=True)

    def __enter__(self) -> Prober:
        self.began = time.monotonic()
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stopped = True
        self._thread.join(ANSWERS_WITHIN_S)

    @property
    def ready_now(self) -> int:
        """How many are ready by now."""
        return sum(one.ready_at is not None for one in list(self.probed.values()))

    def leave_out(self, number: int, why: str) -> None:
        """Do not ask after an instance that was not even started. May be called from any thread."""
        self._left_out.append((number, why))

    def _request(self, url: str) -> tuple[_Origin, bytes]:
        parts = urlsplit(url)
        tls = parts.scheme == "https"
        host, port = parts.hostname or "", parts.port or (443 if tls else 80)
        origin = self._origins.setdefault((host, port, tls), _Origin(host, port, tls))
        target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        head = f"GET {target} HTTP/1.1\r\nHost: {parts.netloc.rpartition('@')[2]}\r\nAccept: */*\r\n{self._headers}\r\n"
        return origin, head.encode()

    def _run(self) -> None:
        try:
            asyncio.run(self._ask_all())
        finally:
            self.cpu_s = time.thread_time()
            self.over.set()

    async def _ask_all(self) -> None:
        begun, count = time.monotonic(), max(1, len(self._requests))
        self._due = [(begun + self._every_s * k / count, number) for k, number in enumerate(self._requests)]
        self._per_origin = max(1, min(LANES, MOST_LANES // max(1, len(self._origins))))
        checked = begun
        while self._left > 0 and not self._stopped and (now := time.monotonic()) < begun + self._within_s:
            while self._left_out:
                number, why = self._left_out.popleft()
                if self._requests.pop(number, None) is not None:
                    self.probed[number].last = why
                    self._left -= 1
            while self._due and self._due[0][0] <= now:
                at, number = heapq.heappop(self._due)
                if number in self._requests:
                    self.latest_s = max(self.latest_s, now - at)
                    origin, _ = self._requests[number]
                    origin.waiting.append(number)
                    if origin.idle:
                        self.next(origin.idle.popleft())
                    else:
                        self.more(origin)
            if now - checked > 1:
                checked = now
                for lane in list(self.lanes):
                    lane.give_up(now)
            await asyncio.sleep(TICK_S)
        self._stopped = True
        for task in self._opening:
            task.cancel()
        for lane in list(self.lanes):
            lane.hang_up()

    def more(self, origin: _Origin) -> None:
        """Another connection where somebody waits for one."""
        if origin.waiting and origin.lanes < self._per_origin and not self._stopped:
            origin.lanes += 1
            task = asyncio.get_running_loop().create_task(self._open(origin))
            self._opening.add(task)
            task.add_done_callback(self._opening.discard)

    async def _open(self, origin: _Origin) -> None:
        """One more connection, to a numeric address that was judged."""
        why = ""
        try:
            addresses = await asyncio.to_thread(resolving.addresses, origin.host)
            why = next((f"{one} {no}" for one in addresses if (no := self._refusal(one, origin.port)) is not None), "")
            if not why:
                context = ssl.create_default_context() if origin.tls else None
                making = asyncio.get_running_loop().create_connection(
                    lambda: _Lane(self, origin),
                    addresses[0],
                    origin.port,
                    ssl=context,
                    server_hostname=origin.host if origin.tls else None,
                )
                await asyncio.wait_for(making, ANSWERS_WITHIN_S)
                return
        except (OSError, UnicodeError, TimeoutError, IndexError) as error:
            why = str(error) or "it took too long to connect"
        origin.lanes -= 1
        while origin.waiting:
            self.answered(origin.waiting.popleft(), None, why)

    def next(self, lane: _Lane) -> None:
        """The next question over a connection that is free."""
        while lane.origin.waiting:
            number = lane.origin.waiting.popleft()
            if number in self._requests:
                lane.ask(number, self._requests[number][1])
                return
        lane.origin.idle.append(lane)

    def answered(self, number: int, status: int | None, why: str) -> None:
        """What came of a question; if it is not ready, it is asked again."""
        one, now = self.probed[number], time.monotonic()
        one.asked += 1
        one.last = f"status {status}" if status is not None else why
        if status == self._expect:
            one.ready_at = now
            if self._requests.pop(number, None) is not None:
                self._left -= 1
        elif not self._stopped:
            heapq.heappush(self._due, (now + self._every_s, number))


class _Lane(asyncio.Protocol):
    """A connection over which one question is open at a time."""

    def __init__(self, prober: Prober, origin: _Origin) -> None:
        self._prober, self.origin = prober, origin
        self._number: int | None = None
        self._asked_at = 0.0
        self._got = b""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport
        self._prober.lanes.add(self)
        self._prober.next(self)

    def ask(self, number: int, request: bytes) -> None:
        self._number, self._asked_at, self._got = number, time.monotonic(), b""
        self._transport.write(request)  # type: ignore[attr-defined]

    def data_received(self, data: bytes) -> None:
        self._got += data
        end = self._got.find(b"\r\n\r\n")
        if end < 0:
            if len(self._got) > MOST_HEAD:
                self._fail("the head of its answer is too long")
            return
        status = _STATUS.match(self._got)
        if status is None:
            self._fail("it does not answer in HTTP")
            return
        head = self._got[: end + 2]
        length = _LENGTH.search(head)
        code = int(status[2])
        whole = length is not None and len(self._got) >= end + 4 + int(length[1])
        if length is not None and not whole and int(length[1]) <= MOST_HEAD:
            return
        # What has no length, or is long, is not waited for: the status is known.
        stays = whole and status[1] == b"1" and _CLOSES.search(head) is None
        number, self._number = self._number, None
        if number is not None:
            self._prober.answered(number, code, "")
        if stays:
            self._prober.next(self)
        else:
            self.hang_up()

    def give_up(self, now: float) -> None:
        if self._number is not None and now - self._asked_at > ANSWERS_WITHIN_S:
            self._fail(f"it did not answer within {ANSWERS_WITHIN_S:g} s")

    def _fail(self, why: str) -> None:
        number, self._number = self._number, None
        if number is not None:
            self._prober.answered(number, None, why)
        self.hang_up()

    def hang_up(self) -> None:
        self._transport.abort()  # type: ignore[attr-defined]

    def connection_lost(self, error: Exception | None) -> None:
        self._prober.lanes.discard(self)
        number, self._number = self._number, None
        if number is not None:
            self._prober.answered(number, None, str(error) if error else "it hung up without an answer")
        if self in self.origin.idle:
            self.origin.idle.remove(self)
        self.origin.lanes -= 1
        self._prober.more(self.origin)
