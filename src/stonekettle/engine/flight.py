"""A user's transfers: libcurl handles, and the request each of them carries.

A handle is set only where the request differs from the one before. Each user has connections,
cookies and TLS sessions of its own, shared by its handles.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import pycurl

from stonekettle.engine.examine import MAX_BODY, Response
from stonekettle.engine.lives import Values
from stonekettle.engine.script import Request
from stonekettle.engine.targets import CurlAddress, host_of, open_allowed
from stonekettle.engine.user import User

CONNECT_TIMEOUT_MS = 10_000
MAX_REDIRECTS = 10


@dataclass(slots=True, eq=False)
class Flight:
    """A handle with the request it carries, or carried last. ``part`` accompanies a main request;
    ``refused`` says why it was not let through."""

    user: User
    handle: pycurl.Curl
    part: bool = False
    request: Request | None = None
    prepared: Request | None = None
    values: Values | None = None
    scheduled: float = 0.0
    started: float = 0.0
    refused: str = ""
    custom: bool = False
    cookie: bool = False
    headers: list[bytes] | None = None
    body: Body | None = None

    @classmethod
    def of(cls, user: User, *, part: bool = False) -> Flight:
        """A handle of the user's, with its connections and cookies."""
        assert user.share is not None  # given when it came
        made = cls(user, _new_handle(user.share), part)
        made.handle.setopt(pycurl.OPENSOCKETFUNCTION, _guarded_socket(made))
        return made

    def slow_to(self, down: int, up: int) -> None:
        """Let it carry so many bytes per second at most; 0: as fast as it goes."""
        self.handle.setopt(pycurl.MAX_RECV_SPEED_LARGE, down)
        self.handle.setopt(pycurl.MAX_SEND_SPEED_LARGE, up)

    def prepare(self, request: Request, values: Values) -> None:
        """Set on the handle what differs from the request it carried before."""
        handle = self.handle
        if self.prepared is not request:
            handle.setopt(pycurl.HTTPHEADER, request.headers_for(values))
            handle.setopt(pycurl.TIMEOUT_MS, request.time_limit_ms)
            handle.setopt(pycurl.FOLLOWLOCATION, request.redirects)
            self._set_method(request)
            if request.url is not None:
                handle.setopt(pycurl.URL, request.url)
            if request.session.connections == "journey":
                handle.setopt(pycurl.FRESH_CONNECT, request.first)
                handle.setopt(pycurl.FORBID_REUSE, request.last)
            self.prepared = request
        elif request.fill_headers:
            handle.setopt(pycurl.HTTPHEADER, request.headers_for(values))
        if request.url is None:
            handle.setopt(pycurl.URL, request.url_for(values))
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
        self.request, self.values, self.refused = request, values, ""

    def capture_headers(self) -> None:
        if self.headers is None:
            self.headers = []
            self.handle.setopt(pycurl.HEADERFUNCTION, self.headers.append)

    def taken(self, status: int, took_s: float) -> Response:
        """What was captured of the answer; nothing is captured any more."""
        body, headers = self.body, self.headers or []
        if self.headers is not None:
            self.handle.unsetopt(pycurl.HEADERFUNCTION)
            self.headers = None
        if body is not None:
            self.handle.setopt(pycurl.WRITEFUNCTION, len)
            self.body = None
        size = body.size if body else int(self.handle.getinfo(pycurl.SIZE_DOWNLOAD_T))
        kind = self.handle.getinfo(pycurl.CONTENT_TYPE) if body else None
        return Response(status, headers, bytes(body.data) if body else b"", size, took_s, kind or "")

    def _set_method(self, request: Request) -> None:
        """Make the handle send the request's method, whatever it sent before."""
        handle, method = self.handle, request.method
        if request.has_body:
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
        self.data = bytearray()
        self.size = 0

    def take(self, part: bytes) -> None:
        self.size += len(part)
        if len(self.data) < MAX_BODY:
            self.data += part


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
    handle.setopt(pycurl.MAXREDIRS, MAX_REDIRECTS)
    handle.setopt(pycurl.REDIR_PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS)
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
        opened = open_allowed(address)
        if opened is None:
            flight.refused = f"it leads to {host_of(address)}, which is not an allowed target."
            return pycurl.SOCKET_BAD
        return opened

    return open_socket
