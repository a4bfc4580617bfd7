"""What Quillport's components tell of single requests: traces, pushed once a second as OTLP over HTTP.

A request that names its trace (``traceparent``, W3C Trace Context) is followed through the components. Told are those
that ask for it, those that failed, and of each second the slowest of each route, as far as somebody listens.
"""

from __future__ import annotations

import asyncio
import gzip
import heapq
import itertools
import json
import re
import sys
import time
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

import aiohttp
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from opentelemetry.proto.trace.v1.trace_pb2 import ResourceSpans, Span, Status

MOST_FAILED = 50
"""So many failures of a second are told."""
SLOWEST = 2
EVERY_S = 1.0
WAITS_S = 5.0
MOST_BYTES = 100_000
_TRACEPARENT = re.compile(r"00-([0-9a-f]{32})-([0-9a-f]{16})-([0-9a-f]{2})\b")


@dataclass
class Part:
    """A stay of a request, on the system's clock (s)."""

    service: str
    instance: int
    name: str
    id: int
    parent: int
    start: float
    end: float
    failed: bool = False
    inner: bool = False


@dataclass
class Walk:
    """A request on its way: its trace, the span that sent it, and the parts it had so far."""

    trace: bytes
    sender: bytes
    asked: bool
    route: str
    root: int
    ids: Callable[[], int]
    parts: list[Part] = field(default_factory=list)

    def add(self, part: Part, inner: list[tuple[str, float, float]]) -> None:
        """A stay in a component, and what it did there."""
        self.parts.append(part)
        for name, start, end in inner:
            if end > start:
                self.parts.append(Part(part.service, part.instance, name, self.ids(), part.id, start, end, inner=True))

    @property
    def failed(self) -> bool:
        return any(part.failed for part in self.parts)


@dataclass(frozen=True)
class Listener:
    """A system of the product that listens, with its token."""

    id: int
    token: str


class Telling:
    """Follows requests and pushes what is told of them to ``address``, for the systems that ``file`` names. ``began``
    is when the system's clock was 0 (s since the epoch)."""

    def __init__(self, address: str, file: Path, began: float) -> None:
        self._address, self._file, self._began = address.rstrip("/"), file, began
        self._random = Random()
        self._told: list[Walk] = []
        self._failed = 0
        self._slow: dict[str, list[tuple[float, int, Walk]]] = defaultdict(list)
        self._turns = itertools.count()
        self._listeners: tuple[Listener, ...] = ()
        self._read_at: float | None = None
        self._said = ""

    def begin(self, traceparent: str | None, route: str) -> Walk | None:
        """Follow a request that names its trace; None where it does not, or nobody listens."""
        if not self._listeners or traceparent is None or (named := _TRACEPARENT.match(traceparent)) is None:
            return None
        trace, sender = map(bytes.fromhex, named.group(1, 2))
        return Walk(trace, sender, bool(int(named[3], 16) & 1), route, self._new_id(), self._new_id)

    def end(self, walk: Walk, entry: str) -> None:
        """The request has been answered by the ``entry``: keep it to be told, or let it go."""
        start, end = min(part.start for part in walk.parts), max(part.end for part in walk.parts)
        walk.parts.insert(0, Part(entry, 0, walk.route, walk.root, 0, start, end, failed=walk.failed))
        if walk.asked:
            self._told.append(walk)
        elif walk.failed:
            self._failed += 1
            if self._failed <= MOST_FAILED:
                self._told.append(walk)
        else:
            slow = self._slow[walk.route]
            heapq.heappush(slow, (end - start, next(self._turns), walk))
            if len(slow) > SLOWEST:
                heapq.heappop(slow)

    async def push_forever(self) -> None:
        """Push what is to be told, again and again."""
        async with aiohttp.ClientSession(timeout=aiohttp.ClientTimeout(total=WAITS_S)) as session:
            while True:
                await asyncio.sleep(EVERY_S)
                self.look_who_listens()
                if walks := self.take():
                    await self._push(session, gzip.compress(self.request_of(walks).SerializeToString(), 1))

    def request_of(self, walks: list[Walk]) -> ExportTraceServiceRequest:
        """What is told of these, by the instances that tell it."""
        request = ExportTraceServiceRequest()
        instances: dict[tuple[str, int], ResourceSpans] = {}
        for walk in walks:
            for part in walk.parts:
                if (by := (part.service, part.instance)) not in instances:
                    own = instances[by] = request.resource_spans.add()
                    named = {"service.name": part.service, "service.instance.id": f"{part.service}-{part.instance}"}
                    for key, value in named.items():
                        own.resource.attributes.add(key=key).value.string_value = value
                    own.scope_spans.add()
                instances[by].scope_spans[0].spans.append(self._span(walk, part))
        return request

    def _span(self, walk: Walk, part: Part) -> Span:
        return Span(
            trace_id=walk.trace,
            span_id=part.id.to_bytes(8, "big"),
            parent_span_id=part.parent.to_bytes(8, "big") if part.parent else walk.sender,
            name=part.name,
            kind=Span.SPAN_KIND_INTERNAL if part.inner else Span.SPAN_KIND_SERVER,
            start_time_unix_nano=round((self._began + part.start) * 1e9),
            end_time_unix_nano=round((self._began + part.end) * 1e9),
            status=Status(code=Status.STATUS_CODE_ERROR if part.failed else Status.STATUS_CODE_UNSET),
        )

    async def _push(self, session: aiohttp.ClientSession, body: bytes) -> None:
        headers = {"Content-Type": "application/x-protobuf", "Content-Encoding": "gzip"}
        for listener in self._listeners:
            url = f"{self._address}/api/systems/{listener.id}/v1/traces"
            try:
                with_token = {**headers, "Authorization": f"Bearer {listener.token}"}
                async with session.post(url, data=body, headers=with_token) as answer:
                    said = "" if answer.status == 200 else f"{url} answered {answer.status}"
            except (aiohttp.ClientError, TimeoutError) as error:
                said = f"{url}: {type(error).__name__}"
            if said and said != self._said:
                print(f"Traces were not taken: {said}.", file=sys.stderr, flush=True)
            self._said = said

    def take(self) -> list[Walk]:
        """What is to be told now, once."""
        slow = [walk for of_route in self._slow.values() for _, _, walk in of_route]
        found = [*self._told, *slow]
        self._told, self._failed = [], 0
        self._slow.clear()
        return found

    def look_who_listens(self) -> None:
        """Read the file when it has changed. One that cannot be read names nobody."""
        try:
            changed_at = self._file.stat().st_mtime
            if changed_at == self._read_at:
                return
            self._read_at = changed_at
            with self._file.open("rb") as file:
                told = json.loads(file.read(MOST_BYTES))
            self._listeners = tuple(Listener(int(one["system"]), str(one["token"])) for one in told)
        except FileNotFoundError:
            self._listeners, self._read_at = (), None
        except (OSError, ValueError, TypeError, KeyError) as error:
            self._listeners = ()
            print(f"{self._file} names nobody who listens: {error}", file=sys.stderr, flush=True)

    def _new_id(self) -> int:
        return self._random.getrandbits(63) + 1


def started_at(clock: Callable[[], float]) -> float:
    """When a clock was 0 (s since the epoch)."""
    return time.time() - clock()
