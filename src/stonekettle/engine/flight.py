"""A user's transfers: libcurl handles, and the request each of them carries.

A handle is set only where the request differs from the one before. Each user has connections,
cookies and TLS sessions of its own, shared by its handles.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import urlsplit

import pycurl

from stonekettle.engine import records
from stonekettle.engine.examine import MAX_BODY, Response
from stonekettle.engine.gates import OPEN, Gates
from stonekettle.engine.lives import Values
from stonekettle.engine.script import Request
from stonekettle.engine.targets import CurlAddress, host_of, socket_of
from stonekettle.engine.user import User

CONNECT_TIMEOUT_MS = 10_000
MAX_REDIRECTS = 10
REDIRECTS = frozenset({301, 302, 303, 307, 308})
_OWN_ONLY = (b"authorization:", b"cookie:")
_OF_BODIES = (b"content-type:",)


@dataclass(frozen=True)
class Tracing:
    """How requests name their traces: by the run's ``seed``; one visit in ``each`` asks for its traces to be kept."""

    seed: int = 0
    each: int = 100


@dataclass(slots=True, eq=False)
class Flight:
    """A handle with the request it carries, or carried last. ``part`` accompanies a main request; ``whole`` tells that
    everything of its answer is taken; ``refused`` says why it was not let through. ``hops`` counts the redirects it
    followed, ``url`` is where it waits to be let since ``held_at``, ``place`` is which request of its step it
    carries, and ``due`` and ``begun`` are of the first of them; ``tracing`` is how it names its traces, ``lead`` and
    ``tail`` are those of the step and user ``named``."""

    user: User
    handle: pycurl.Curl
    gates: Gates
    part: bool = False
    tracing: Tracing = Tracing()
    hops: int = 0
    place: int = 0
    home: tuple[str, str] | None = None
    due: float = 0.0
    begun: float = 0.0
    request: Request | None = None
    prepared: Request | None = None
    values: Values | None = None
    scheduled: float = 0.0
    started: float = 0.0
    refused: str = ""
    url: str = ""
    held_at: float = 0.0
    custom: bool = False
    cookie: bool = False
    headers: list[bytes] | None = None
    body: Body | None = None
    whole: bool = False
    named: tuple[int, int] | None = None
    lead: bytes = b""
    tail: bytes = b""

    @classmethod
    def of(cls, user: User, gates: Gates = OPEN, *, part: bool = False, tracing: Tracing = Tracing()) -> Flight:
        """A handle of the user's, with its connections and cookies, that goes where ``gates`` let it."""
        assert user.share is not None  # given when it came
        made = cls(user, _new_handle(user.share), gates, part, tracing)
        made.handle.setopt(pycurl.OPENSOCKETFUNCTION, _guarded_socket(made))
        return made

    def slow_to(self, down: int, up: int) -> None:
        """Let it carry so many bytes per second at most; 0: as fast as it goes."""
        self.handle.setopt(pycurl.MAX_RECV_SPEED_LARGE, down)
        self.handle.setopt(pycurl.MAX_SEND_SPEED_LARGE, up)

    def prepare(self, request: Request, values: Values) -> None:
        """Set on the handle what differs from the request it carried before."""
        handle = self.handle
        self.request, self.values, self.refused, self.hops = request, values, "", 0
        self._number()
        handle.setopt(pycurl.HTTPHEADER, self._headers())
        if self.prepared is not request:
            handle.setopt(pycurl.TIMEOUT_MS, request.time_limit_ms)
            self._set_method(request.method, request.has_body)
            if request.url is not None:
                handle.setopt(pycurl.URL, request.url.encode())
            if request.session.connections == "journey":
                handle.setopt(pycurl.FRESH_CONNECT, request.first)
                handle.setopt(pycurl.FORBID_REUSE, request.last)
            self.prepared = request
        if request.url is None:
            handle.setopt(pycurl.URL, request.url_for(values).encode("utf-8", "replace"))
        if request.fill_cookie is not None:
            handle.setopt(pycurl.COOKIE, request.fill_cookie(values).encode("utf-8", "replace"))
            self.cookie = True
        elif self.cookie:
            handle.unsetopt(pycurl.COOKIE)
            self.cookie = False
        if request.has_body:
            handle.setopt(pycurl.POSTFIELDS, request.body_for(values))
        if request.first and request.session.cookies == "journey":
            handle.setopt(pycurl.COOKIELIST, "ALL")
        examiner = request.examiner
        if examiner is not None:
            if examiner.needs_body:
                self.body = Body()
                handle.setopt(pycurl.WRITEFUNCTION, self.body.take)
            if examiner.needs_headers:
                self.capture_headers()

    @property
    def effective_url(self) -> str:
        return str(self.handle.getinfo_raw(pycurl.EFFECTIVE_URL).decode("utf-8", "replace"))

    def leads_to(self, status: int) -> str | None:
        """Where its answer leads, if that is to be followed."""
        if status not in REDIRECTS or self.request is None or not self.request.redirects:
            return None
        there = self.handle.getinfo_raw(pycurl.REDIRECT_URL)
        # A server may write anything there; what is no UTF-8 leads to no host either.
        return there.decode("utf-8", "replace") if there else None

    def follow(self, status: int, url: str, spent_ms: int) -> bool:
        """Set it up for the request that a redirect asks for, as browsers do (Fetch standard, HTTP-redirect fetch);
        ``spent_ms`` of its time limit are over. False where it may not go, or has been led too far."""
        request, handle = self.request, self.handle
        assert request is not None  # it has just been answered
        self.home = self.home if self.hops else _origin(self.effective_url)
        self.hops += 1
        there = _origin(url)
        if request.confined_to is not None and _port(url) != request.confined_to:
            self.refused = f"it leads to {there[1]}, where its secrets may not go."
            return False
        if self.hops > MAX_REDIRECTS or there[0] not in ("http", "https"):
            return False
        self._number()
        body = request.has_body
        if (status == 303 and request.method != "HEAD") or (status in (301, 302) and request.method == "POST"):
            self._set_method("GET", False)
            body = False
        left_out = (*(_OWN_ONLY if there != self.home else ()), *(_OF_BODIES if not body else ()))
        headers = [line for line in self._headers() if not line.lower().startswith(left_out)]
        handle.setopt(pycurl.HTTPHEADER, headers)
        handle.setopt(pycurl.URL, url.encode())
        handle.setopt(pycurl.TIMEOUT_MS, max(1, request.time_limit_ms - spent_ms))
        handle.setopt(pycurl.FRESH_CONNECT, 0)
        if self.cookie and there != self.home:
            handle.unsetopt(pycurl.COOKIE)
            self.cookie = False
        if self.body is not None:
            self.body.begin()
        self.prepared = None  # the next request must not take over anything of this
        return True

    def _number(self) -> None:
        """Take the next number among the requests of its step."""
        user = self.user
        self.place = user.parts
        user.parts += 1

    def _headers(self) -> list[bytes]:
        request, values, user = self.request, self.values, self.user
        assert request is not None  # set before
        assert values is not None
        headers = request.headers_for(values)
        if not request.traced:
            return list(headers)
        number, visit = user.number, values.visit
        if self.named != (request.step, number):
            # All but the visit and the place stays what it was: numbers cost the loop time to write.
            self.named = request.step, number
            before, _, after = records.trace_parts(self.tracing.seed, number, 0, request.step)
            self.lead = f"traceparent: 00-{before}".encode()
            self.tail = f"{after}-{number:08x}{request.step & 0xFFFF:04x}".encode()
        wanted = b"-01" if records.is_traced(number, visit, self.tracing.each) else b"-00"
        return [*headers, b"%b%08x%b%04x%b" % (self.lead, visit, self.tail, self.place + 1 & 0xFFFF, wanted)]

    def capture_headers(self) -> None:
        if self.headers is None:
            self.headers = []
            self.handle.setopt(pycurl.HEADERFUNCTION, self.headers.append)

    def capture_whole(self) -> None:
        """Take the answer's headers and the beginning of its body, whether or not they are examined."""
        self.whole = True
        self.capture_headers()
        if self.body is None:
            self.body = Body()
            self.handle.setopt(pycurl.WRITEFUNCTION, self.body.take)

    def sent(self) -> tuple[bytes, bytes]:
        """The headers set for the request, but for what libcurl adds, and its body."""
        assert self.request is not None  # it has been sent
        assert self.values is not None
        body = self.request.body_for(self.values) if self.request.has_body else b""
        return b"\r\n".join(self._headers()), body

    def taken(self, status: int, took_s: float) -> Response:
        """What was captured of the answer; nothing is captured any more."""
        body, headers, self.whole = self.body, self.headers or [], False
        if self.headers is not None:
            self.handle.unsetopt(pycurl.HEADERFUNCTION)
            self.headers = None
        if body is not None:
            self.handle.setopt(pycurl.WRITEFUNCTION, len)
            self.body = None
        size = body.size if body else int(self.handle.getinfo(pycurl.SIZE_DOWNLOAD_T))
        kind = self.handle.getinfo(pycurl.CONTENT_TYPE) if body else None
        return Response(status, headers, bytes(body.data) if body else b"", size, took_s, kind or "")

    def _set_method(self, method: str, has_body: bool) -> None:
        """Make the handle send this method, whatever it sent before."""
        handle = self.handle
        if has_body:
            handle.setopt(pycurl.NOBODY, 0)
            handle.setopt(pycurl.POST, 1)
        else:
            handle.setopt(pycurl.HTTPGET, 1)
        if method == "HEAD":
            handle.setopt(pycurl.NOBODY, 1)
        if method not in ("GET", "POST", "HEAD"):
            handle.setopt(pycurl.CUSTOMREQUEST, method)
            self.custom = True
        elif self.custom:
            handle.unsetopt(pycurl.CUSTOMREQUEST)
            self.custom = False


class Body:
    """Takes a body as it arrives, and no more of it than is looked at."""

    __slots__ = ("data", "size")

    def __init__(self) -> None:
        self.begin()

    def begin(self) -> None:
        self.data = bytearray()
        self.size = 0

    def take(self, part: bytes) -> None:
        self.size += len(part)
        if len(self.data) < MAX_BODY:
            self.data += part


def _origin(url: str) -> tuple[str, str]:
    parts = urlsplit(url)
    return parts.scheme.lower(), parts.netloc.rpartition("@")[2].lower()


def _port(url: str) -> int:
    parts = urlsplit(url)
    return parts.port or (443 if parts.scheme == "https" else 80)


def new_share() -> pycurl.CurlShare:
    share = pycurl.CurlShare()
    share.setopt(pycurl.SH_SHARE, pycurl.LOCK_DATA_CONNECT)
    share.setopt(pycurl.SH_SHARE, pycurl.LOCK_DATA_COOKIE)
    share.setopt(pycurl.SH_SHARE, pycurl.LOCK_DATA_SSL_SESSION)
    return share


def _new_handle(share: pycurl.CurlShare) -> pycurl.Curl:
    handle = pycurl.Curl()
    handle.setopt(pycurl.SHARE, share)
    handle.setopt(pycurl.NOSIGNAL, 1)
    handle.setopt(pycurl.COOKIEFILE, "")
    # A built-in that returns its argument's length discards a body without running Python code.
    handle.setopt(pycurl.WRITEFUNCTION, len)
    handle.setopt(pycurl.ACCEPT_ENCODING, "")
    handle.setopt(pycurl.CONNECTTIMEOUT_MS, CONNECT_TIMEOUT_MS)
    handle.setopt(pycurl.PROXY, "")
    return handle


def _guarded_socket(flight: Flight) -> Callable[[int, CurlAddress], object]:
    """Opens a handle's sockets, and refuses addresses that load may not go to."""

    def open_socket(purpose: int, address: CurlAddress) -> object:
        confined = flight.request.confined_to if flight.request is not None else None
        if confined not in (None, address[3][1]):
            where = f"port {address[3][1]} of {host_of(address)}"
            flight.refused = f"it leads to {where}, where its secrets may not go."
            return pycurl.SOCKET_BAD
        host, port = host_of(address), address[3][1]
        why = flight.gates.refusal(host, port)
        if why is not None:
            flight.refused = f"it leads to {host}, which {why}."
            return pycurl.SOCKET_BAD
        opened = socket_of(address)
        flight.gates.connected(host, port, opened.fileno())
        return opened

    return open_socket
