"""The signature of a call that changes a system, so that whoever takes it knows who sent it, and when.

Signed are, each in a line: the time (seconds since 1970), the method, path and query, and the body's SHA-256 in
hexadecimal. The signature is the HMAC (RFC 2104) with SHA-256 of that by the signing key, in hexadecimal.
"""

from __future__ import annotations

import hashlib
import hmac
import time
from collections.abc import Mapping

TIME, SIGNATURE = "Kettle-Time", "Kettle-Signature"
VALID_S = 300
"""A signature is old after so long, either way: clocks differ."""


def headers(key: str, method: str, target: str, body: bytes, now: float | None = None) -> dict[str, str]:
    """What a call to ``target`` (path and query) carries."""
    at = str(int(time.time() if now is None else now))
    return {TIME: at, SIGNATURE: _signature(key, at, method, target, body)}


def fault(
    key: str, method: str, target: str, body: bytes, given: Mapping[str, str], now: float | None = None
) -> str | None:
    """Why a call is not to be heeded; None where it is signed rightly."""
    at, signature = given.get(TIME, ""), given.get(SIGNATURE, "")
    if not at.isdigit() or not signature:
        return f"the call is not signed: {TIME} and {SIGNATURE} are needed"
    if abs((time.time() if now is None else now) - int(at)) > VALID_S:
        return "the signature is too old, or of a clock that is ahead"
    if not hmac.compare_digest(signature, _signature(key, at, method, target, body)):
        return "the signature is not right"
    return None


def _signature(key: str, at: str, method: str, target: str, body: bytes) -> str:
    text = "\n".join((at, method, target, hashlib.sha256(body).hexdigest()))
    return hmac.new(key.encode(), text.encode(), hashlib.sha256).hexdigest()
