"""Does each journey pass once, as one user, before any load?"""

from __future__ import annotations

from dataclasses import dataclass

import pycurl

from stonekettle.engine.errors import TargetError, TrialFailed
from stonekettle.engine.script import Request, Script
from stonekettle.engine.targets import resolve

CONNECT_TIMEOUT_MS = 5_000
SHOWN = 200


@dataclass(frozen=True)
class TrialResult:
    """How many requests the trial sent; they are part of no measurement."""

    requests: int


def try_all(script: Script, base_url: str) -> TrialResult:
    """Walk every journey once. Raises :class:`TrialFailed` at the first step that fails."""
    try:
        resolve("system.base_url", base_url)
    except TargetError as error:
        raise TrialFailed(str(error)) from error
    requests = 0
    for number, journey in enumerate(script.journeys):
        handle = pycurl.Curl()
        handle.setopt(pycurl.NOSIGNAL, 1)
        handle.setopt(pycurl.COOKIEFILE, "")
        handle.setopt(pycurl.PROXY, "")
        handle.setopt(pycurl.CONNECTTIMEOUT_MS, CONNECT_TIMEOUT_MS)
        try:
            for request in journey:
                _try_step(handle, script, request, number)
                requests += 1
        finally:
            handle.close()
    return TrialResult(requests)


def _try_step(handle: pycurl.Curl, script: Script, request: Request, row: int) -> None:
    values = script.rows[row % len(script.rows)]
    step = script.steps[request.step]
    body = bytearray()
    handle.setopt(pycurl.URL, request.url_for(values))
    handle.setopt(pycurl.HTTPHEADER, list(request.headers_for(values)))
    handle.setopt(pycurl.TIMEOUT_MS, request.time_limit_ms)
    handle.setopt(pycurl.WRITEFUNCTION, lambda part: body.extend(part))
    if request.method == "GET":
        handle.setopt(pycurl.HTTPGET, 1)
    else:
        handle.setopt(pycurl.POST, 1)
        handle.setopt(pycurl.POSTFIELDS, request.body_for(values))
    where = f"The trial of {step.journey!r} failed at step {step.name!r}"
    try:
        handle.perform()
    except pycurl.error as error:
        raise TrialFailed(f"{where}: {str(error.args[1]).rstrip('.')}.") from error
    status = handle.getinfo(pycurl.RESPONSE_CODE)
    if status not in request.expect:
        wanted = " or ".join(map(str, sorted(request.expect)))
        said = body[:SHOWN].decode(errors="replace").strip()
        raise TrialFailed(f"{where}: it expects status {wanted} and got {status}. The answer began: {said!r}")
