"""Do the addresses of a plan lead where load may go?

Asked when a run is prepared, after name resolution; generators ask of every new connection, by its numeric address, so
that a name that changes its address mid-run gains nothing.
"""

from __future__ import annotations

import socket
import time
from collections.abc import Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from urllib.parse import urlsplit

from stonekettle import resolving
from stonekettle.engine.addresses import is_numeric, plain, why_never
from stonekettle.engine.allowance import LOOPBACK, Allowance
from stonekettle.engine.errors import TargetError
from stonekettle.plan.parts import PRACTICE

CONNECT_TIMEOUT_S = 3.0
LOOKUP_LIMIT_S = 1.5
MEND = "Load goes to this machine and to targets that are proven or entered: see Targets."


CurlAddress = tuple[int, int, int, tuple[str, int]]
"""Family, kind, protocol and address of a socket libcurl asks for."""


class _HandedOver(socket.socket):
    """A socket for libcurl, which takes a duplicate: this one is closed when it is let go."""

    def __del__(self) -> None:
        self.close()


def host_of(address: CurlAddress) -> str:
    host = address[3][0]
    return host.decode() if isinstance(host, bytes) else host


def socket_of(address: CurlAddress) -> socket.socket:
    """The socket libcurl asks for."""
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
        _under_way[host] = now, _lookups.submit(resolving.addresses, host)
    return _under_way[host][1]


def addresses_of(host: str) -> list[str]:
    """All numeric addresses of a host, as this machine finds them. Raises ``OSError``, ``UnicodeError`` or
    ``TimeoutError`` where it does not."""
    return _lookup(host).result(LOOKUP_LIMIT_S)


def host_and_port(path: str, url: str) -> tuple[str, int]:
    """Where ``url`` leads, as it is written. Raises :class:`TargetError` where it has no usable port."""
    try:
        parts = urlsplit(url)
        return parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)
    except ValueError as error:
        raise TargetError(path, f"{url} has no usable port.", "Use a port from 1 to 65535.") from error


def resolve(path: str, url: str, allowance: Allowance) -> tuple[str, str, int]:
    """Host, numeric address and port of ``url``; raises :class:`TargetError` unless every address
    of the host is allowed. ``path`` is the address's place in the plan."""
    host, port = host_and_port(path, url)
    try:
        addresses = addresses_of(host)
    except (OSError, UnicodeError, TimeoutError) as error:
        raise TargetError(
            path, f"the host {host!r} cannot be found.", "Correct its name, or use its address."
        ) from error
    for address in addresses:
        why = allowance.refusal(address, port)
        if why is not None:
            raise TargetError(path, f"{host} ({address}) {why}.", MEND)
        scheme = urlsplit(url).scheme
        if not allowance.speaks(address, port, scheme):
            raise TargetError(path, f"{host} ({address}) is not an allowed target by {scheme}.", MEND)
    return host, addresses[0], port


def check_never(addresses: Iterable[tuple[str, str]]) -> list[TargetError]:
    """Those among (path, address) pairs whose host is written as a numeric address that nothing is ever sent to."""
    problems = []
    for path, url in addresses:
        if url.startswith(f"{PRACTICE}://"):
            continue
        try:
            host = host_and_port(path, url)[0]
            if not is_numeric(host):
                # A name is judged by its addresses, when something is sent there.
                host.encode("idna")
                continue
        except TargetError as error:
            problems.append(error)
            continue
        except UnicodeError:
            problems.append(TargetError(path, f"{host!r} is not a host name.", "Correct it, or use its address."))
            continue
        ip = plain(host)
        if (what := why_never(ip)) is not None:
            problems.append(TargetError(path, f"{ip} is {what}: nothing is ever sent there.", "Correct the address."))
    return problems


def check_allowed(addresses: Iterable[tuple[str, str]], allowance: Allowance = LOOPBACK) -> list[TargetError]:
    """The forbidden or unknown among (path, address) pairs; practice addresses are allowed."""
    problems = []
    elsewhere = [(path, url) for path, url in addresses if not url.startswith(f"{PRACTICE}://")]
    for _, url in elsewhere:
        with suppress(ValueError):
            _lookup(urlsplit(url).hostname or "")  # all at the same time
    for path, url in elsewhere:
        try:
            resolve(path, url, allowance)
        except TargetError as error:
            problems.append(error)
    return problems


def check_reachable(path: str, url: str, allowance: Allowance = LOOPBACK) -> None:
    """Open and close one connection; raises :class:`TargetError` when nothing answers."""
    _, address, port = resolve(path, url, allowance)
    try:
        with socket.create_connection((address, port), CONNECT_TIMEOUT_S):
            pass
    except OSError as error:
        reason = (error.strerror or str(error) or type(error).__name__).lower()
        raise TargetError(
            path, f"nothing answers at {url}: {reason}.", "Start the system there, or correct the address."
        ) from error
