"""Does whoever asks for it control a host? It is asked to show a token that only they were given.

The token is fetched from each of the host's addresses itself, at each port, and no redirect is followed: an answer
proves the server that gave it. A TXT record proves a name and nothing about the machines it points to, so it counts for
public addresses only.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass

import dns.exception
import dns.resolver
import urllib3

from stonekettle.engine.addresses import is_numeric, plain, why_never
from stonekettle.engine.targets import addresses_of

PATH = "/.well-known/stone-kettle"
RECORD = "_stone-kettle"
TIMEOUT_S = 3.0
LIMIT_S = 12.0
MOST_BYTES = 4_096
MOST_ADDRESSES = 8


@dataclass(frozen=True)
class Claim:
    """What is to be proven: that ``token`` is shown by a host at all of these ports."""

    host: str
    scheme: str
    ports: Sequence[int]
    token: str


@dataclass(frozen=True)
class Proof:
    """The numeric addresses that are proven, and by what (``PATH`` or ``RECORD``)."""

    addresses: tuple[str, ...]
    by: str


class Unproven(Exception):
    """The token was not found; the message says where and what was there instead. ``is_certain`` where the host itself
    answered without it: one that does not answer may be overloaded and has taken nothing back."""

    def __init__(self, message: str, *, is_certain: bool) -> None:
        super().__init__(message)
        self.is_certain = is_certain


def prove(claim: Claim) -> Proof:
    """Find the token where it has to be. Raises :class:`Unproven`."""
    addresses = _addresses(claim.host)
    try:
        give_up = time.monotonic() + LIMIT_S
        for address in addresses:
            for port in claim.ports:
                if time.monotonic() > give_up:
                    raise Unproven(f"{claim.host} took more than {LIMIT_S:.0f} s altogether.", is_certain=False)
                _fetch(claim, address, port)
    except Unproven as missing:
        if not _is_recorded(claim):
            raise
        private = [address for address in addresses if not plain(address).is_global]
        if private:
            text = f"A TXT record proves the name, not the machine: {private[0]} is private, so serve the token there."
            raise Unproven(text, is_certain=True) from missing
        return Proof(tuple(addresses), RECORD)
    return Proof(tuple(addresses), PATH)


def _addresses(host: str) -> list[str]:
    try:
        found = addresses_of(host)
    except (OSError, UnicodeError, TimeoutError) as error:
        raise Unproven(f"The host {host} cannot be found.", is_certain=False) from error
    if len(found) > MOST_ADDRESSES:
        raise Unproven(f"{host} has {len(found)} addresses; at most {MOST_ADDRESSES} are proven.", is_certain=False)
    for address in found:
        if (what := why_never(plain(address))) is not None:
            raise Unproven(f"{host} ({address}) is {what}.", is_certain=True)
    return found


def _fetch(claim: Claim, address: str, port: int) -> None:
    where = f"{claim.scheme}://{_in_url(address)}:{port}{PATH}"
    headers = {"Host": _in_url(claim.host) if port in (80, 443) else f"{_in_url(claim.host)}:{port}"}
    with _pool(claim, address, port) as pool:
        try:
            answer = pool.request("GET", PATH, headers=headers, redirect=False, preload_content=False)
            status, text = answer.status, _begun(answer)
        except urllib3.exceptions.HTTPError as error:
            raise Unproven(f"{where} does not answer ({type(error).__name__}).", is_certain=False) from error
    if status >= 500 or status == 429:
        raise Unproven(f"{where} answers with status {status}.", is_certain=False)
    if status != 200:
        raise Unproven(f"{where} answers with status {status} instead of the token.", is_certain=True)
    if claim.token not in text.split():
        raise Unproven(f"{where} answers something else than the token.", is_certain=True)


def _pool(claim: Claim, address: str, port: int) -> urllib3.HTTPConnectionPool:
    if claim.scheme == "https":
        return urllib3.HTTPSConnectionPool(
            address, port, timeout=TIMEOUT_S, retries=False, server_hostname=claim.host, assert_hostname=claim.host
        )
    return urllib3.HTTPConnectionPool(address, port, timeout=TIMEOUT_S, retries=False)


def _begun(answer: urllib3.BaseHTTPResponse) -> str:
    """The beginning of a body, in bounded time: a server that drips is one that does not answer."""
    give_up, found = time.monotonic() + TIMEOUT_S, b""
    try:
        while len(found) < MOST_BYTES and (part := answer.read1(MOST_BYTES)):
            found += part
            if time.monotonic() > give_up:
                raise urllib3.exceptions.HTTPError("it drips")
    finally:
        answer.close()
    return found.decode("utf-8", "replace")


def _is_recorded(claim: Claim) -> bool:
    if is_numeric(claim.host):
        return False  # numbers have no records of their own
    try:
        found = dns.resolver.resolve(f"{RECORD}.{claim.host}", "TXT", lifetime=TIMEOUT_S)
    except dns.exception.DNSException:
        return False
    return any(claim.token in b"".join(record.strings).decode("utf-8", "replace").split() for record in found)


def _in_url(host: str) -> str:
    return f"[{host}]" if ":" in host else host
