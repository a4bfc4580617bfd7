"""Does each journey pass once, as one user, before any load? And if not, why?

The requests are those the load loop would send; here everything about them is kept to be shown.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field, fields, is_dataclass, replace
from random import Random
from typing import Any, TypeVar, cast

import pycurl

from stonekettle.engine import server_timing
from stonekettle.engine.comparison import Comparison, compare
from stonekettle.engine.errors import TargetError, TrialFailed
from stonekettle.engine.examine import Examiner, Outcome, Response
from stonekettle.engine.flight import Body
from stonekettle.engine.script import Request, Script, Values
from stonekettle.engine.targets import CurlAddress, host_of, open_allowed, resolve
from stonekettle.plan import secrecy

CONNECT_TIMEOUT_MS = 5_000
SHOWN = 200
MAX_SHOWN = 100_000
"""So much of a body is kept to be shown."""
AT_ONCE = 6
LIMIT_S = 120.0
Tell = Callable[[str, int, int], None]
"""Told what is being done, and how much of how much is done."""


def silent(text: str, done: int, total: int) -> None:
    """Nobody listens."""


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


@dataclass(frozen=True)
class KeptValue:
    """A value a step keeps, where it was looked for, and what it is (of a secret only how long); None: not found."""

    name: str
    place: str
    value: str | None


@dataclass(frozen=True)
class StepTrial:
    """How a step went; ``reason`` says in a sentence why it failed. ``comparison`` sets what a
    recording holds beside it."""

    name: str
    passed: bool
    reason: str
    exchanges: tuple[Exchange, ...]
    checks: tuple[Outcome, ...] = ()
    kept: tuple[KeptValue, ...] = ()
    comparison: Comparison | None = None

    def beside(self, recorded: tuple[int, str, str]) -> StepTrial:
        """The step with what was received compared to a recorded (status, content type, body)."""
        main = next(iter(self.exchanges), None)
        if main is None or main.status == 0:
            return self
        status, kind, body = recorded
        received = main.status, main.content_type, main.received_body
        return replace(self, comparison=compare((status, kind, secrecy.hidden(body)), received))


@dataclass(frozen=True)
class JourneyTrial:
    """A journey walked once: its steps as far as it came."""

    journey: str
    passed: bool
    reason: str
    took_s: float
    steps: tuple[StepTrial, ...]

    @property
    def requests(self) -> int:
        return sum(len(step.exchanges) for step in self.steps)


@dataclass(frozen=True)
class TrialResult:
    """How many requests the trial sent; they are part of no measurement."""

    requests: int


def try_all(script: Script, base_url: str) -> TrialResult:
    """Walk every journey once. Raises :class:`TrialFailed` at the first step that fails."""
    requests = 0
    for number in range(len(script.journeys)):
        trial = try_journey(script, base_url, number)
        requests += trial.requests
        if not trial.passed:
            raise TrialFailed(trial.reason)
    return TrialResult(requests)


def try_journey(script: Script, base_url: str, number: int, tell: Tell = silent, user: int = 1) -> JourneyTrial:
    """Walk one journey as ``user`` (from 1, with the rows it would have), no longer than :data:`LIMIT_S`;
    ``tell`` hears each step begun. Raises :class:`TrialFailed` where load may not go at all."""
    try:
        resolve("system.base_url", base_url)
    except TargetError as error:
        raise TrialFailed(str(error)) from error
    requests = script.journeys[number]
    values = Values({**script.samples[number], **script.row(number + user - 1)}, user, 1, Random())
    name = script.steps[requests[0].step].journey
    walker = _TrialUser()
    steps: list[StepTrial] = []
    try:
        for place, request in enumerate(requests):
            step = script.steps[request.step].name
            tell(f"Trying {step!r}", place, len(requests))
            if walker.elapsed() > LIMIT_S:
                steps.append(StepTrial(step, False, f"the trial had taken {LIMIT_S:.0f} s by then and ended.", ()))
                break
            steps.append(_try_step(walker, step, request, values))
            if not steps[-1].passed:
                break
    finally:
        walker.close()
    last = steps[-1]
    reason = "" if last.passed else f"The trial of {name!r} failed at step {last.name!r}: {last.reason}"
    trial = JourneyTrial(name, last.passed, reason, walker.elapsed(), tuple(steps))
    return _out_of_view(trial, script.secrets | _secrets(requests, values))


def _secrets(requests: Sequence[Request], values: Values) -> set[str]:
    """What is known to be secret: credentials, and the values of secret names, given or kept."""
    credentials = (request.session.credentials for request in requests)
    given = {text for c in credentials if c for text in (c.bearer, c.password, *c.headers.values()) if text}
    return given | {value for name, value in values.items() if secrecy.is_secret_name(name)}


T = TypeVar("T")


def _out_of_view(part: T, known: Collection[str]) -> T:
    """The same with secrets masked in every text of it."""
    made: Any = part
    if isinstance(part, KeptValue) and part.value is not None and _is_secret(part):
        return cast(T, replace(part, value=f"{secrecy.MASK} ({len(part.value)} characters)"))
    if isinstance(part, str):
        made = secrecy.hidden(part, known)
    elif isinstance(part, tuple):
        made = tuple(_out_of_view(one, known) for one in part)
    elif is_dataclass(part) and not isinstance(part, type):
        made = replace(part, **{f.name: _out_of_view(getattr(part, f.name), known) for f in fields(part)})
    return cast(T, made)


def _is_secret(kept: KeptValue) -> bool:
    words = kept.place.replace(".", " ").split()
    return secrecy.is_secret_name(kept.name) or secrecy.is_secret_name(words[-1]) or "cookie" in words


@dataclass
class _Transfer:
    """A handle with what it sends and gets."""

    handle: pycurl.Curl
    request: Request
    url: str
    body: bytes
    began_s: float = 0.0
    sent: bytearray = field(default_factory=bytearray)
    headers: list[bytes] = field(default_factory=list)
    received: Body = field(default_factory=Body)
    fault: str | None = None

    @property
    def response(self) -> Response:
        info = self.handle.getinfo
        took = info(pycurl.TOTAL_TIME)
        body = bytes(self.received.data)
        return Response(info(pycurl.RESPONSE_CODE), self.headers, body, self.received.size, took)


class _TrialUser:
    """One user's cookies and connections."""

    def __init__(self) -> None:
        self._begun = time.perf_counter()
        self._share = pycurl.CurlShare()
        for kind in (pycurl.LOCK_DATA_CONNECT, pycurl.LOCK_DATA_COOKIE, pycurl.LOCK_DATA_SSL_SESSION):
            self._share.setopt(pycurl.SH_SHARE, kind)
        self._handles: list[pycurl.Curl] = []

    def elapsed(self) -> float:
        return time.perf_counter() - self._begun

    def close(self) -> None:
        for handle in self._handles:
            handle.close()
        self._share.close()

    def perform(self, requests: Sequence[Request], values: Values) -> list[_Transfer]:
        """Send requests side by side, so many at a time as a browser would."""
        transfers = [self._transfer(request, values) for request in requests]
        multi = pycurl.CurlMulti()
        multi.setopt(pycurl.M_MAX_HOST_CONNECTIONS, AT_ONCE)
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
            for handle, _, message in bad:
                by_handle[handle].fault = by_handle[handle].fault or f"{str(message).rstrip('.')}."
                multi.remove_handle(handle)
            left -= len(good) + len(bad)
            if left and not queued:
                multi.select(0.1)
        return transfers

    def _transfer(self, request: Request, values: Values) -> _Transfer:
        handle = pycurl.Curl()
        self._handles.append(handle)
        body = request.body_for(values) if request.has_body else b""
        transfer = _Transfer(handle, request, request.url_for(values), body)
        for option, value in (
            (pycurl.SHARE, self._share),
            (pycurl.NOSIGNAL, 1),
            (pycurl.COOKIEFILE, ""),
            (pycurl.PROXY, ""),
            (pycurl.ACCEPT_ENCODING, ""),
            (pycurl.CONNECTTIMEOUT_MS, CONNECT_TIMEOUT_MS),
            (pycurl.TIMEOUT_MS, request.time_limit_ms),
            (pycurl.FOLLOWLOCATION, request.redirects),
            (pycurl.MAXREDIRS, 10),
            (pycurl.REDIR_PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS),
            (pycurl.URL, transfer.url),
            (pycurl.HTTPHEADER, list(request.headers_for(values))),
            (pycurl.WRITEFUNCTION, transfer.received.take),
            (pycurl.HEADERFUNCTION, transfer.headers.append),
            (pycurl.VERBOSE, 1),
            (pycurl.DEBUGFUNCTION, lambda kind, data: _note_sent(transfer, kind, data)),
            (pycurl.OPENSOCKETFUNCTION, lambda purpose, address: _open(transfer, address)),
        ):
            handle.setopt(option, value)
        if request.fill_cookie is not None:
            handle.setopt(pycurl.COOKIE, request.fill_cookie(values).encode("utf-8", "replace"))
        if request.has_body:
            handle.setopt(pycurl.POST, 1)
            handle.setopt(pycurl.POSTFIELDS, body)
        if request.method == "HEAD":
            handle.setopt(pycurl.NOBODY, 1)
        elif request.method not in ("GET", "POST"):
            handle.setopt(pycurl.CUSTOMREQUEST, request.method)
        return transfer


def _note_sent(transfer: _Transfer, kind: int, data: bytes) -> None:
    if kind == pycurl.INFOTYPE_HEADER_OUT:
        transfer.sent += data


def _open(transfer: _Transfer, address: CurlAddress) -> object:
    if transfer.request.confined_to not in (None, address[3][1]):
        transfer.fault = f"it leads to port {address[3][1]} of {host_of(address)}, where its secrets may not go."
        return pycurl.SOCKET_BAD
    opened = open_allowed(address)
    if opened is None:
        transfer.fault = f"it leads to {host_of(address)}, which is not an allowed target."
        return pycurl.SOCKET_BAD
    return opened


def _try_step(user: _TrialUser, name: str, request: Request, values: Values) -> StepTrial:
    (main,) = user.perform([request], values)
    exchanges = [_exchange(main)]
    fault = main.fault or _status_fault(main)
    if fault is not None:
        return StepTrial(name, False, fault, tuple(exchanges))
    checks, kept, fault = _examined(request.examiner, main.response, values)
    if fault is None and request.accompanying:
        others = user.perform(request.accompanying, values)
        exchanges += [_exchange(other, accompanying=True) for other in others]
    return StepTrial(name, fault is None, fault or "", tuple(exchanges), checks, kept)


def _examined(
    examiner: Examiner | None, response: Response, values: Values
) -> tuple[tuple[Outcome, ...], tuple[KeptValue, ...], str | None]:
    """Checks and kept values with the first failure in a sentence."""
    if examiner is None:
        return (), (), None
    checks = examiner.outcomes(response)
    found = examiner.kept(response)
    kept = tuple(KeptValue(name, examiner.places[name], value) for name, value in found.items())
    failed = next((check for check in checks if not check.passed), None)
    if failed is not None:
        return checks, kept, f"the check that {failed.text} failed: {failed.found}."
    missing = next((value for value in kept if value.value is None), None)
    if missing is not None:
        begun = response.text[:SHOWN].strip()
        return (
            checks,
            kept,
            f"there is no value {missing.place} to keep as {missing.name!r}. The answer began: {begun!r}",
        )
    values.update({value.name: value.value for value in kept if value.value is not None})
    return checks, kept, None


def _status_fault(transfer: _Transfer) -> str | None:
    status = transfer.handle.getinfo(pycurl.RESPONSE_CODE)
    if status in transfer.request.expect:
        return None
    wanted = " or ".join(map(str, sorted(transfer.request.expect)))
    said = transfer.response.text[:SHOWN].strip()
    where = transfer.response.header("location")
    more = f" It leads to {where}." if where else f" The answer began: {said!r}"
    return f"it expects status {wanted} and got {status}.{more}"


def _exchange(transfer: _Transfer, *, accompanying: bool = False) -> Exchange:
    info, response = transfer.handle.getinfo, transfer.response
    fault = transfer.fault or (_status_fault(transfer) if accompanying else None)
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
            info(pycurl.TOTAL_TIME),
        ),
        status=response.status,
        sent_headers=transfer.sent.decode("latin-1").strip(),
        sent_body=transfer.body.decode("utf-8", "replace")[:MAX_SHOWN],
        received_headers=blocks[-1],
        received_body=_shown(response),
        content_type=response.header("content-type") or "",
        size=transfer.received.size,
        hops=tuple(hops),
        timing=tuple(timing),
        fault=fault,
    )


def _location(block: str) -> str:
    match = re.search(r"(?im)^location:\s*(.*)$", block)
    return match[1].strip() if match else ""


def _shown(response: Response) -> str:
    if b"\0" in response.body[:1000]:
        return f"({len(response.body)} bytes that are no text)"
    return response.text[:MAX_SHOWN]
