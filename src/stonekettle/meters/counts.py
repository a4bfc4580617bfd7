"""Counts that an address answers: a number, asked before load begins and once it has ended."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from dataclasses import dataclass

import urllib3

from stonekettle.meters.endpoint import MeterError, Refusal, guarded_http
from stonekettle.meters.samples import Source
from stonekettle.plan import json_path, patterns
from stonekettle.plan.journey import Journey, Proof

NOBODY = ""
"""The component of counts: an address belongs to none."""
MAX_BYTES = 1_000_000
TIMEOUT_S = 5.0
SHOWN = 80


@dataclass(frozen=True)
class Count:
    """A count at a moment (monotonic seconds)."""

    source: Source
    at: float
    value: float


class Counts:
    """The counts of all journeys whose proof is an address; ``base_url`` is the system's own."""

    def __init__(self, journeys: Sequence[Journey], base_url: str, refusal: Refusal) -> None:
        self._base_url = base_url
        self._http = guarded_http(refusal)
        self._proofs = [(j.name, j.proof) for j in journeys if j.proof is not None and j.proof.address is not None]

    def read(self) -> tuple[Count, ...]:
        """All of them, now. Raises :class:`MeterError` for one that is no number."""
        return tuple(self._read(journey, proof) for journey, proof in self._proofs)

    def close(self) -> None:
        self._http.hang_up()

    def _read(self, journey: str, proof: Proof) -> Count:
        address = proof.address or ""
        url = self._base_url + address if address.startswith("/") else address
        at = time.monotonic()
        try:
            answer = self._http.request("GET", url, timeout=TIMEOUT_S, redirect=False, preload_content=False)
            try:
                text = _within_limit(answer, at).decode("utf-8", "replace")
            finally:
                answer.release_conn()
        except urllib3.exceptions.HTTPError as error:
            raise MeterError(f"the proof of {journey!r}: {url} does not answer: {error}") from error
        if answer.status != 200:
            raise MeterError(f"the proof of {journey!r}: {url} answers with status {answer.status}")
        try:
            value = number_in(text, proof)
        except ValueError as error:
            raise MeterError(f"the proof of {journey!r}: {url} answers no number: {error}") from error
        return Count(source_of(journey), at, value)


def _within_limit(answer: urllib3.BaseHTTPResponse, began: float) -> bytes:
    """The body, as much as is looked at. Raises :class:`MeterError` for one that drips."""
    body = b""
    while len(body) < MAX_BYTES and (piece := answer.read1(MAX_BYTES - len(body))):
        body += piece
        if time.monotonic() - began > 2 * TIMEOUT_S:
            raise MeterError(f"it took over {2 * TIMEOUT_S:.0f} s to tell a number")
    return body


def source_of(journey: str) -> Source:
    """The series a journey's count is kept as."""
    return Source(NOBODY, journey, "count", (), "counter")


def number_in(text: str, proof: Proof) -> float:
    """The number an answer holds where the proof looks for it. Raises ValueError."""
    found: object = text.strip()
    if proof.regex is not None:
        match = patterns.compiled(proof.regex).search(text)
        if match is None:
            raise ValueError(f"nothing matches {proof.regex}")
        found = match[1] if match.re.groups else match[0]
    elif proof.json_path is not None:
        found = json_path.compiled(proof.json_path)(json.loads(text))
        if found is json_path.MISSING:
            raise ValueError(f"there is nothing at {proof.json_path}")
    if isinstance(found, bool) or not isinstance(found, (str, int, float)):
        raise ValueError(f"{str(found)[:SHOWN]!r}")
    try:
        return float(found)
    except ValueError:
        raise ValueError(f"{str(found)[:SHOWN]!r}") from None
