"""Where may load go? Loopback only, so far.

Checked when a plan is saved, when a run is prepared (after name resolution), and by the generator
at every new connection, so that a name that changes its address mid-run gains nothing.
"""

from __future__ import annotations

import ipaddress
import socket
import time
from collections.abc import Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from urllib.parse import urlsplit

from stonekettle.engine.errors import TargetError
from stonekettle.plan.parts import PRACTICE

CONNECT_TIMEOUT_S = 3.0
LOOKUP_LIMIT_S = 1.5


def is_allowed(address: str) -> bool:
    """Whether load may go to this numeric IP address."""
    ip = ipaddress.ip_address(address.partition("%")[0])
    if isinstance(ip, ipaddress.IPv6Address) and ip.ipv4_mapped is not None:
        ip = ip.ipv4_mapped
    return ip.is_loopback


CurlAddress = tuple[int, int, int, tuple[str, int]]
"""Family, kind, protocol and address of a socket libcurl asks for."""


class _HandedOver(socket.socket):
    """A socket for libcurl, which takes a duplicate: this one is closed when it is let go."""

    def __del__(self) -> None:
        self.close()


def host_of(address: CurlAddress) -> str:
    host = address[3][0]
    return host.decode() if isinstance(host, bytes) else host


def open_allowed(address: CurlAddress) -> socket.socket | None:
    """The socket libcurl asks for, or None where load may not go."""
    if not is_allowed(host_of(address)):
        return None
    return _HandedOver(*address[:3])


_lookups = ThreadPoolExecutor(16, thread_name_prefix="lookup")
_under_way: dict[str, tuple[float, Future[list[str]]]] = {}


def _lookup(host: str) -> Future[list[str]]:
    """The numeric addresses of a host, asked once for whoever asks within a moment: a name server that does
    not answer may take many seconds for each name."""
    now = time.monotonic()
    for name, (asked, future) in list(_under_way.items()):
        if now - asked > LOOKUP_LIMIT_S and future.done():
            _under_way.pop(name, None)
    if host not in _under_way:
        _under_way[host] = now, _lookups.submit(_addresses, host)
    return _under_way[host][1]


def _addresses(host: str) -> list[str]:
    return [str(info[4][0]) for info in socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)]


def resolve(path: str, url: str) -> tuple[str, str, int]:
    """Host, numeric address and port of ``url``; raises :class:`TargetError` unless every address
    of the host is allowed. ``path`` is the address's place in the plan."""
    try:
        parts = urlsplit(url)
        host = parts.hostname or ""
        port = parts.port or (443 if parts.scheme == "https" else 80)
    except ValueError as error:
        raise TargetError(path, f"{url} has no usable port.", "Use a port from 1 to 65535.") from error
    try:
        addresses = _lookup(host).result(LOOKUP_LIMIT_S)
    except (OSError, UnicodeError, TimeoutError) as error:
        raise TargetError(
            path, f"the host {host!r} cannot be found.", "Correct its name, or use its address."
        ) from error
    for address in addresses:
        if not is_allowed(address):
            raise TargetError(
                path,
                f"{host} ({address}) is not an allowed target.",
                "Load goes only to this machine so far: use 127.0.0.1, ::1 or localhost.",
            )
    return host, addresses[0], port


def check_allowed(addresses: Iterable[tuple[str, str]]) -> list[TargetError]:
    """The forbidden or unknown among (path, address) pairs; practice addresses are allowed."""
    problems = []
    elsewhere = [(path, url) for path, url in addresses if not url.startswith(f"{PRACTICE}://")]
    for _, url in elsewhere:
        with suppress(ValueError):
            _lookup(urlsplit(url).hostname or "")  # all at the same time
    for path, url in elsewhere:
        try:
            resolve(path, url)
        except TargetError as error:
            problems.append(error)
    return problems


def check_reachable(path: str, url: str) -> None:
    """Open and close one connection; raises :class:`TargetError` when nothing answers."""
    _, address, port = resolve(path, url)
    try:
        with socket.create_connection((address, port), CONNECT_TIMEOUT_S):
            pass
    except OSError as error:
        reason = (error.strerror or str(error) or type(error).__name__).lower()
        raise TargetError(
            path, f"nothing answers at {url}: {reason}.", "Start the system there, or correct the address."
        ) from error
