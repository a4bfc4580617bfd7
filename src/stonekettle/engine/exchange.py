"""One request of a trial and its answer, with everything about them kept to be shown.

The transfer is set up by the load's own builder (:class:`flight.Flight`) and read out afterwards, so that a trial
proves what the load does.
"""

from __future__ import annotations

import re
import time
from collections.abc import Sequence
from dataclasses import dataclass, field

import pycurl

from stonekettle.engine import server_timing
from stonekettle.engine.allowance import Allowance
from stonekettle.engine.examine import Response
from stonekettle.engine.flight import MAX_REDIRECTS, Body, Flight, new_share
from stonekettle.engine.gates import Gates
from stonekettle.engine.lives import Values
from stonekettle.engine.script import Request
from stonekettle.engine.transfers import CONNECTIONS_PER_HOST
from stonekettle.engine.user import User

SHOWN = 200
MAX_SHOWN = 100_000
"""So much of a body is kept to be shown."""


@dataclass(frozen=True)
class Phases:
    """When each phase of a transfer was over, in seconds from its start; 0 where there was none."""

    dns: float
    connect: float
    tls: float
    sent: float
    first_byte: float
    total: float


@dataclass(frozen=True)
class Hop:
    """An answer that led elsewhere."""

    status: int
    location: str


@dataclass(frozen=True)
class Spent:
    """Seconds spent in a component, as the answer tells."""

    component: str
    seconds: float


@dataclass(frozen=True)
class Exchange:
    """A request and its answer. ``began_s`` counts from the trial's start; texts are cut, their
    secrets masked at the trial's end; ``hops`` are the redirects on the way."""

    method: str
    url: str
    accompanying: bool
    began_s: float
    phases: Phases
    status: int
    sent_headers: str
    sent_body: str
    received_headers: str
    received_body: str
    content_type: str
    size: int
    hops: tuple[Hop, ...]
    timing: tuple[Spent, ...]
    fault: str | None


@dataclass
class Transfer:
    """A flight with what it sends and gets."""

    flight: Flight
    request: Request
    url: str
    body: bytes
    began_s: float = 0.0
    took_s: float = 0.0
    sent: bytearray = field(default_factory=bytearray)
    headers: list[bytes] = field(default_factory=list)
    received: Body = field(default_factory=Body)
    fault: str | None = None

    @property
    def handle(self) -> pycurl.Curl:
        return self.flight.handle

    def goes_on(self) -> bool:
        """Follow where its answer leads, if it is to be followed."""
        status = self.handle.getinfo(pycurl.RESPONSE_CODE)
        self.took_s += self.handle.getinfo(pycurl.TOTAL_TIME)
        target = self.flight.leads_to(status)
        if target is None:
            return False
        if not self.flight.follow(status, target, int(self.took_s * 1000)):
            self.fault = self.flight.refused or f"it was led on more than {MAX_REDIRECTS} times, or to no web address."
            return False
        self.received.begin()
        return True

    @property
    def response(self) -> Response:
        info = self.handle.getinfo
        took = self.took_s
        body = bytes(self.received.data)
        return Response(info(pycurl.RESPONSE_CODE), self.headers, body, self.received.size, took)


class TrialUser:
    """One user as the load has them, whose transfers are looked at closely."""

    def __init__(self, number: int, allowance: Allowance) -> None:
        self._gates = Gates(allowance)
        self._begun = time.perf_counter()
        self._user = User(number, None, share=new_share())
        self._user.main = Flight.of(self._user, self._gates)
        self._parts: list[Flight] = []

    def elapsed(self) -> float:
        return time.perf_counter() - self._begun

    def close(self) -> None:
        for flight in (self._user.main, *self._parts):
            if flight is not None:
                flight.handle.close()
        if self._user.share is not None:
            self._user.share.close()

    def perform(self, request: Request, values: Values) -> Transfer:
        """Send a step's main request."""
        assert self._user.main is not None  # from the start
        self._user.parts = 0
        (transfer,) = self._perform([self._prepared(self._user.main, request, values)])
        return transfer

    def accompany(self, requests: Sequence[Request], values: Values) -> list[Transfer]:
        """Send what accompanies it side by side, so many at a time as the load does."""
        while len(self._parts) < len(requests):
            self._parts.append(Flight.of(self._user, self._gates, part=True))
        pairs = zip(self._parts, requests, strict=False)
        return self._perform([self._prepared(flight, request, values) for flight, request in pairs])

    def _perform(self, transfers: list[Transfer]) -> list[Transfer]:
        multi = pycurl.CurlMulti()
        multi.setopt(pycurl.M_MAX_HOST_CONNECTIONS, CONNECTIONS_PER_HOST)
        for transfer in transfers:
            transfer.began_s = self.elapsed()
            multi.add_handle(transfer.handle)
        by_handle = {transfer.handle: transfer for transfer in transfers}
        left = len(transfers)
        while left:
            multi.perform()
            queued, good, bad = multi.info_read()
            for handle in good:
                multi.remove_handle(handle)
                if by_handle[handle].goes_on():
                    multi.add_handle(handle)
                    left += 1
            for handle, _, message in bad:
                transfer = by_handle[handle]
                transfer.fault = transfer.flight.refused or f"{str(message).rstrip('.')}."
                multi.remove_handle(handle)
            left -= len(good) + len(bad)
            if left and not queued:
                multi.select(0.1)
        return transfers

    @staticmethod
    def _prepared(flight: Flight, request: Request, values: Values) -> Transfer:
        flight.prepare(request, values)
        body = request.body_for(values) if request.has_body else b""
        transfer = Transfer(flight, request, request.url_for(values), body)
        for option, value in (
            (pycurl.WRITEFUNCTION, transfer.received.take),
            (pycurl.HEADERFUNCTION, transfer.headers.append),
            (pycurl.VERBOSE, 1),
            (pycurl.DEBUGFUNCTION, lambda kind, data: _note_sent(transfer, kind, data)),
        ):
            flight.handle.setopt(option, value)
        return transfer


def _note_sent(transfer: Transfer, kind: int, data: bytes) -> None:
    if kind == pycurl.INFOTYPE_HEADER_OUT:
        transfer.sent += data


def status_fault(transfer: Transfer) -> str | None:
    status = transfer.handle.getinfo(pycurl.RESPONSE_CODE)
    if status in transfer.request.expect:
        return None
    wanted = " or ".join(map(str, sorted(transfer.request.expect)))
    said = transfer.response.text[:SHOWN].strip()
    where = transfer.response.header("location")
    more = f" It leads to {where}." if where else f" The answer began: {said!r}"
    return f"it expects status {wanted} and got {status}.{more}"


def exchange_of(transfer: Transfer, *, accompanying: bool = False) -> Exchange:
    info, response = transfer.handle.getinfo, transfer.response
    fault = transfer.fault or (status_fault(transfer) if accompanying else None)
    timing = [Spent(*pair) for value in response.all("server-timing") for pair in server_timing.parse(value)]
    blocks = re.split(r"\r?\n\r?\n", b"".join(transfer.headers).decode("latin-1").strip())
    hops = [Hop(int(block.split()[1]), _location(block)) for block in blocks[:-1] if block.startswith("HTTP/")]
    return Exchange(
        method=transfer.request.method,
        url=transfer.url,
        accompanying=accompanying,
        began_s=transfer.began_s,
        phases=Phases(
            info(pycurl.NAMELOOKUP_TIME),
            info(pycurl.CONNECT_TIME),
            info(pycurl.APPCONNECT_TIME),
            info(pycurl.PRETRANSFER_TIME),
            info(pycurl.STARTTRANSFER_TIME),
            transfer.took_s,
        ),
        status=response.status,
        sent_headers=transfer.sent.decode("latin-1").strip(),
        sent_body=transfer.body.decode("utf-8", "replace")[:MAX_SHOWN],
        received_headers=blocks[-1],
        received_body=response.excerpt(MAX_SHOWN),
        content_type=response.header("content-type") or "",
        size=transfer.received.size,
        hops=tuple(hops),
        timing=tuple(timing),
        fault=fault,
    )


def _location(block: str) -> str:
    match = re.search(r"(?im)^location:\s*(.*)$", block)
    return match[1].strip() if match else ""
