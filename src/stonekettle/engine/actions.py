"""Brings a candidate under load: its actions, then asking until it is ready; and ends it after its turn."""

from __future__ import annotations

import os
import shlex
import signal
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from urllib.parse import urlsplit

import urllib3

from stonekettle.engine.errors import EngineError
from stonekettle.meters.endpoint import MeterError, Refusal, guarded_http
from stonekettle.plan import signing
from stonekettle.plan.calls import Call, Ready
from stonekettle.plan.candidates import Action, Candidate, Command, Value
from stonekettle.plan.system import Operations
from stonekettle.plan.system_document import in_practice

MOST_BYTES = 100_000
SHOWN = 200
LOOK_S = 0.25
Check = Callable[[], None]
"""Asked again and again meanwhile; raises where nothing may go on."""


class ActionFailed(EngineError):
    """An action that did not do what it should, or something that did not become ready; the message says which and
    why."""


@dataclass(frozen=True)
class Done:
    """What was done, when (seconds since it began), how long it took, and what came of it."""

    what: str
    at_s: float
    took_s: float
    outcome: str


class Changer:
    """Does actions for a system whose operations these are. Connections go only where ``refusal`` lets them;
    ``directory`` tells where the practice system is. Use as a context."""

    def __init__(
        self,
        operations: Operations | None,
        refusal: Refusal,
        directory: Mapping[str, Sequence[str]],
        check: Check = lambda: None,
        *,
        commands: bool = False,
    ) -> None:
        self._operations, self._directory, self._check, self._commands = operations, directory, check, commands
        self._http = guarded_http(refusal)
        self._began = time.monotonic()
        self.done: list[Done] = []

    def __enter__(self) -> Changer:
        return self

    def __exit__(self, *_: object) -> None:
        self._http.hang_up()

    def begin(self, parts: Sequence[Candidate | Value], base_url: str) -> float:
        """Do what brings these under load, and wait until each is ready; how long that took (s). Raises
        :class:`ActionFailed`."""
        began = time.monotonic()
        for part in parts:
            for action in part.begin:
                self.do(action)
        for part in parts:
            if part.ready is not None:
                self.await_ready(part.ready, part.address or base_url)
        return time.monotonic() - began

    def end(self, parts: Sequence[Candidate | Value]) -> None:
        """Do what ends them. Raises :class:`ActionFailed` for the first that fails, once all were tried."""
        failed: ActionFailed | None = None
        for part in reversed(parts):
            for action in part.end:
                try:
                    self.do(action)
                except ActionFailed as error:
                    failed = failed or error
        if failed is not None:
            raise failed

    def do(self, action: Action) -> None:
        """Do one action. Raises :class:`ActionFailed`."""
        self._check()
        began = time.monotonic()
        outcome = self._call(action) if isinstance(action, Call) else self._run(action)
        self._note(action.words, began, outcome)

    def _note(self, what: str, began: float, outcome: str) -> None:
        self.done.append(Done(what, began - self._began, time.monotonic() - began, outcome))

    def _call(self, call: Call) -> str:
        operations = self._operations
        url = call.address
        if url.startswith("/") and operations is not None:
            url = operations.address + url
        url = self._found(url)
        headers, body = dict(call.headers), call.body.encode()
        if body and not any(name.lower() == "content-type" for name in headers):
            headers["Content-Type"] = "application/json" if call.body.lstrip()[:1] in ("{", "[") else "text/plain"
        if operations is not None and call.is_at(operations.address):
            if operations.credentials is not None:
                headers |= operations.credentials.headers
            if call.signed and operations.signing_key is not None:
                parts = urlsplit(url)
                target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
                headers |= signing.headers(operations.signing_key, call.method, target, body)
        status, text = self._ask(call.words, call.method, url, call.within, headers, body)
        if not call.meets(status):
            begun = f" It says: {text[:SHOWN].strip()!r}." if text.strip() else ""
            raise ActionFailed(f"{call.words} answered with status {status}, expected was {call.expect}.{begun}")
        return f"status {status}"

    def _found(self, url: str) -> str:
        there = in_practice(url, self._directory)
        if not there:
            raise ActionFailed(f"{url} is not in the practice system.")
        return there[0]

    def _ask(
        self, what: str, method: str, url: str, within_s: float, headers: Mapping[str, str], body: bytes
    ) -> tuple[int, str]:
        """The status and the beginning of the answer, which has to be whole within the time."""
        until = time.monotonic() + within_s
        timeout = urllib3.Timeout(total=within_s)
        try:
            answer = self._http.request(
                method, url, headers=headers, body=body, timeout=timeout, redirect=False, preload_content=False
            )
            try:
                text = b""
                while len(text) < MOST_BYTES and (piece := answer.read1(MOST_BYTES - len(text))):
                    text += piece
                    if time.monotonic() > until:
                        raise ActionFailed(f"{what} took over {within_s:g} s to answer.")
            finally:
                answer.release_conn()
        except urllib3.exceptions.TimeoutError as error:
            raise ActionFailed(f"{what} did not answer within {within_s:g} s.") from error
        except (urllib3.exceptions.HTTPError, MeterError) as error:
            raise ActionFailed(f"{what} could not be sent: {error}") from error
        return answer.status, text.decode("utf-8", "replace")

    def _run(self, command: Command) -> str:
        if not self._commands:
            raise ActionFailed(f"{command.words}: commands are done by ./kettle run alone.")
        try:
            process = subprocess.Popen(
                shlex.split(command.command),
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                start_new_session=True,
            )
        except OSError as error:
            raise ActionFailed(f"{command.words} could not be started: {error.strerror or error}.") from error
        with process:
            try:
                told, _ = process.communicate(timeout=command.within)
            except BaseException as error:
                # Whatever it started goes with it.
                with suppress(ProcessLookupError):
                    os.killpg(process.pid, signal.SIGKILL)
                if isinstance(error, subprocess.TimeoutExpired):
                    raise ActionFailed(f"{command.words} took over {command.within:g} s and was ended.") from error
                raise
        if process.returncode != 0:
            said = told.decode("utf-8", "replace").strip()[-SHOWN:]
            raise ActionFailed(f"{command.words} ended with {process.returncode}: {said!r}.")
        return "done"

    def await_ready(self, ready: Ready, base_url: str, told: Callable[[str], None] = lambda text: None) -> None:
        """Ask until it is ready; what each answer says is ``told``. Raises :class:`ActionFailed`."""
        began = time.monotonic()
        url = self._found(base_url + ready.ask if ready.ask.startswith("/") else ready.ask)
        last = "it was not asked"
        while True:
            self._check()
            asked = time.monotonic()
            if asked - began > ready.within:
                raise ActionFailed(f"{ready.ask} was not ready within {ready.within:g} s: {last}.")
            try:
                status, text = self._ask(ready.ask, "GET", url, min(10.0, ready.within), {}, b"")
                told(text)
                last = f"it answered with status {status}"
                if status == ready.expect:
                    self._note(f"ready at {ready.ask}", began, last)
                    return
            except ActionFailed as error:
                last = str(error).rstrip(".")
            self._rest(asked + ready.every)

    def _rest(self, until: float) -> None:
        while (left := until - time.monotonic()) > 0:
            time.sleep(min(left, LOOK_S))
            self._check()
