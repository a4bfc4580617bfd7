"""One address that answers metrics: asked safely, read fast, its clock compared with ours.

Every connection is checked before it is made and once it stands: neither a redirect nor a name that
changes its address leads to a place that is not allowed.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from socket import SHUT_RDWR, create_connection, socket
from statistics import fmean
from urllib.parse import urljoin, urlsplit
from weakref import WeakSet

import urllib3
from urllib3.connection import HTTPConnection, HTTPSConnection
from urllib3.exceptions import ConnectTimeoutError, NewConnectionError

from stonekettle import resolving
from stonekettle.meters.exposition import ExpositionError, Page, PageReader
from stonekettle.plan.secrecy import origin_of
from stonekettle.plan.system import Component, Meter

MAX_PAGE = 8_000_000
MAX_REDIRECTS = 3
MAX_INSTANCE = 300
ACCEPT = "application/openmetrics-text; version=1.0.0, text/plain; version=0.0.4; q=0.5"
DATE_EVERY = 10
"""One answer in so many has its date looked at; a date is only good to a second."""

Refusal = Callable[[str, int], str | None]
"""Why this numeric address and port may not be connected to; None where it may."""


class MeterError(Exception):
    """A meter that does not report; the message says which and why."""


@dataclass(frozen=True)
class Reading:
    """One page at a moment (monotonic seconds)."""

    at: float
    page: Page


class GuardedClient(urllib3.PoolManager):
    """A client that knows its connections, so that none outlives its use."""

    def __init__(self, hosts: int) -> None:
        super().__init__(num_pools=max(10, hosts), maxsize=2, retries=False)
        self.opened: WeakSet[socket] = WeakSet()

    def hang_up(self) -> None:
        """End every connection, whatever is under way on it: a server that drips keeps nobody waiting."""
        for sock in list(self.opened):
            with suppress(OSError):
                sock.shutdown(SHUT_RDWR)
        self.clear()


def guarded_http(refusal: Refusal, hosts: int = 10) -> GuardedClient:
    """A client whose connections go only where ``refusal`` lets them: each is made to a numeric address that was
    judged, so that no other answer of a name server can come between."""

    def connected(connection: HTTPConnection) -> socket:
        host, port = connection.host.strip("[]"), connection.port
        try:
            addresses = resolving.addresses(host)
        except (OSError, UnicodeError) as error:
            raise MeterError(f"the host {host!r} cannot be found") from error
        for address in addresses:
            if (why := refusal(address, port)) is not None:
                raise MeterError(f"{address} {why}")
        return _connect(connection, addresses)

    class GuardedHttp(HTTPConnection):
        def _new_conn(self) -> socket:
            return connected(self)

        def connect(self) -> None:
            super().connect()
            manager.opened.add(self.sock)

    class GuardedHttps(HTTPSConnection):
        def _new_conn(self) -> socket:
            return connected(self)

        def connect(self) -> None:
            super().connect()
            manager.opened.add(self.sock)

    class HttpPool(urllib3.HTTPConnectionPool):
        ConnectionCls = GuardedHttp

    class HttpsPool(urllib3.HTTPSConnectionPool):
        ConnectionCls = GuardedHttps

    manager = GuardedClient(hosts)
    manager.pool_classes_by_scheme = {"http": HttpPool, "https": HttpsPool}
    return manager


def _connect(connection: HTTPConnection, addresses: Sequence[str]) -> socket:
    """To the first of these that answers."""
    for place, address in enumerate(addresses, start=1):
        try:
            # Not urllib3's: it decides once, when it is loaded, whether there is IPv6.
            made = create_connection((address, connection.port), connection.timeout)
            for option in connection.socket_options or ():
                made.setsockopt(*option)
            return made
        except TimeoutError as error:
            raise ConnectTimeoutError(connection, f"it took more than {connection.timeout:g} s to connect") from error
        except OSError as error:
            if place == len(addresses):
                raise NewConnectionError(connection, str(error)) from error
    raise MeterError(f"the host {connection.host!r} has no address")


class Endpoint:
    """An instance of a component at an address."""

    def __init__(self, component: Component, meter: Meter, url: str, http: GuardedClient) -> None:
        self.component, self.url = component, url
        self.instance = urlsplit(url).netloc.rpartition("@")[2][-MAX_INSTANCE:]
        self.reader = PageReader(meter.labels)
        self.answered = self.missed = 0
        self.last_fault = ""
        self._http = http
        self._headers = {"Accept": ACCEPT, **(meter.credentials.headers if meter.credentials else {})}
        self._offsets: deque[float] = deque(maxlen=60)

    @property
    def clock_offset_s(self) -> float | None:
        """How far its clock is ahead of ours, good to about a second; None before it told a date."""
        return fmean(self._offsets) if self._offsets else None

    def read(self, timeout: float) -> Reading:
        """Its page now. Raises :class:`MeterError`."""
        try:
            reading = self._read(timeout)
        except MeterError as error:
            self.missed += 1
            self.last_fault = str(error)
            raise MeterError(f"the meter of {self.component.name} at {self.url}: {error}") from error
        self.answered += 1
        self.last_fault = self.last_fault or self.reader.left_out
        return reading

    def _read(self, timeout: float) -> Reading:
        before, wall = time.monotonic(), time.time()
        answer, body = self._get(timeout)
        if (took := time.monotonic() - before) > 2 * timeout:
            raise MeterError(f"it took {took:.0f} s to tell its page, and may take {timeout:g}")
        at = (before + time.monotonic()) / 2
        if answer.status != 200:
            raise MeterError(_status_text(answer.status))
        if len(self._offsets) == 0 or self.answered % DATE_EVERY == 0:
            self._note_date(answer.headers.get("Date"), wall + at - before)
        try:
            page = self.reader.read(body.decode("utf-8", "replace"), answer.headers.get("Content-Type", ""))
        except ExpositionError as error:
            raise MeterError(str(error)) from error
        return Reading(at, page)

    def _get(self, timeout: float) -> tuple[urllib3.BaseHTTPResponse, bytes]:
        url, headers = self.url, self._headers
        for _ in range(MAX_REDIRECTS + 1):
            try:
                answer = self._http.request(
                    "GET", url, headers=headers, timeout=timeout, redirect=False, preload_content=False
                )
                try:
                    body = answer.read(MAX_PAGE + 1)
                finally:
                    answer.release_conn()
            except urllib3.exceptions.HTTPError as error:
                raise MeterError(f"it does not answer: {_reason(error)}") from error
            if len(body) > MAX_PAGE:
                answer.close()
                raise MeterError(f"its page is over {MAX_PAGE // 1_000_000} MB; let it tell less")
            target = answer.headers.get("Location")
            if answer.status not in (301, 302, 303, 307, 308) or not target:
                return answer, body
            following = urljoin(url, target)
            if urlsplit(following).scheme not in ("http", "https"):
                raise MeterError(f"it redirects to {following}, which is no web address")
            if origin_of(following) != origin_of(url):
                headers = {"Accept": ACCEPT}  # credentials are for the origin they were given for
            url = following
        raise MeterError(f"it redirects more than {MAX_REDIRECTS} times")

    def _note_date(self, date: str | None, now: float) -> None:
        try:
            told = parsedate_to_datetime(date or "").timestamp()
        except ValueError:
            return
        self._offsets.append(told + 0.5 - now)


def _status_text(status: int) -> str:
    if status in (401, 403):
        return f"it answers with status {status}: the credentials are missing or wrong"
    return f"it answers with status {status}"


def _reason(error: urllib3.exceptions.HTTPError) -> str:
    """The last words of the chain: what went wrong, without the client's own objects."""
    inner = getattr(error, "reason", None)
    text = str(inner if isinstance(inner, Exception) else error)
    return text.rpartition(": ")[2].rstrip(".") if ">: " in text or "): " in text else text
