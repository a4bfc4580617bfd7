"""The owner's end of a generator process: starts it, passes on what it is told, hears what it tells.

The owner renews its word each second, from a thread of its own, while :attr:`GeneratorProcess.is_owned` says
that it is there; without it the generator drains and ends: no load without an owner.
"""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections import deque
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, replace
from typing import Any

from stonekettle.core.orders import Order
from stonekettle.engine import orderbook, rollup
from stonekettle.engine.allowance import LOOPBACK, Allowance, Ceilings
from stonekettle.engine.kept import Whole
from stonekettle.engine.leases import Lease
from stonekettle.engine.records import view
from stonekettle.engine.script import cell_numbers
from stonekettle.engine.wire import read_frame
from stonekettle.plan import document, secrecy
from stonekettle.plan.models import Plan

SIGN_EVERY_S = 1.0


@dataclass(frozen=True)
class Finished:
    """The generator has ended its load and sent everything."""


@dataclass(frozen=True)
class Ready:
    """The generator is set up."""


@dataclass(frozen=True)
class Acknowledged:
    """The order of this number, and all before it, stand in the generator's book."""

    number: int


@dataclass(frozen=True)
class SecondDone:
    """One second: its rollup, encoded histograms by cell, and packed records."""

    rollup: dict[str, Any]
    histograms: dict[int, bytes]
    records: bytes


@dataclass(frozen=True)
class KeptWhole:
    """Requests that were kept whole, their secrets masked."""

    requests: list[Whole]


@dataclass(frozen=True)
class Lost:
    """The process ended without finishing."""

    reason: str


Event = Ready | Acknowledged | SecondDone | KeptWhole | Finished | Lost


class GeneratorProcess:
    """``on_event`` is called from a thread, in order, ending with Finished or Lost. ``slot`` is the generator's
    number in its run; it connects to nothing that ``allowance`` does not hold."""

    def __init__(
        self,
        plan: Plan,
        on_event: Callable[[Event], None],
        *,
        slot: int = 0,
        seed: int = 1,
        allowance: Allowance = LOOPBACK,
    ) -> None:
        self._on_event = on_event
        self._process = subprocess.Popen(
            [sys.executable, "-m", "stonekettle.engine.process"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            start_new_session=True,
        )
        files = {feed.file.digest: feed.kept_text for feed in plan.feeds if feed.file}
        self._complaints: deque[str] = deque(maxlen=20)
        self._cells = cell_numbers(plan)
        self._secrets = secrecy.texts_in(document.to_document(plan))
        self._telling = threading.Lock()
        self._closed = threading.Event()
        self.is_owned: Callable[[], bool] = lambda: True
        told = {"files": files, "slot": slot, "seed": seed, "allowance": allowance.as_dict()}
        self._tell({"plan": document.to_document(plan), **told})
        self._threads = [
            threading.Thread(target=self._listen, name="generator-events", daemon=True),
            threading.Thread(target=self._hear_complaints, name="generator-complaints", daemon=True),
            threading.Thread(target=self._give_signs, name="generator-signs", daemon=True),
        ]
        for thread in self._threads:
            thread.start()

    @property
    def pid(self) -> int:
        return self._process.pid

    def begin(self, at: float) -> None:
        """The run's time 0 is at ``at``, seconds since the epoch on the owner's clock."""
        self._tell({"begin": at})

    def give(self, order: Order) -> None:
        self._tell({"order": orderbook.to_plain(order)})

    def lease(self, lease: Lease) -> None:
        self._tell({"lease": lease.as_dict()})

    def share(self, shares: Sequence[Ceilings]) -> None:
        """How much of each permit's ceilings it may use, in their order."""
        self._tell({"shares": [asdict(share) for share in shares]})

    def let_go(self) -> None:
        """Let users go after their step, whatever was ordered."""
        self._tell({"let go": True})

    def halt(self) -> None:
        """End all load at once: what users are in is cut off."""
        self._tell({"halt": True})

    def kill(self) -> None:
        """End the process where it does not end by itself; what it has not sent is lost."""
        self._process.kill()

    def close(self, limit_s: float = 5.0) -> None:
        """End the process: let it finish, then kill it after ``limit_s``."""
        self._closed.set()
        if self._process.stdin:
            with self._telling, suppress(BrokenPipeError):
                self._process.stdin.close()
        try:
            self._process.wait(limit_s)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        for thread in self._threads:
            thread.join(limit_s)
        for stream in (self._process.stdout, self._process.stderr):
            if stream:
                stream.close()

    def _tell(self, message: dict[str, Any]) -> None:
        assert self._process.stdin is not None  # opened as a pipe
        # Where it is gone the listening thread reports it.
        with self._telling, suppress(BrokenPipeError, ValueError):
            self._process.stdin.write(json.dumps(message).encode() + b"\n")
            self._process.stdin.flush()

    def _give_signs(self) -> None:
        while not self._closed.wait(SIGN_EVERY_S):
            if self.is_owned():
                self._tell({"go on": True})

    def _listen(self) -> None:
        try:
            finished, why = self._hear_all(), ""
        except Exception as error:
            # Whatever it is, nothing more of the generator can be heard: others shall take its place.
            reason = getattr(error, "strerror", None) or str(error).rstrip(".")
            finished, why = False, f"what it told could not be taken in: {reason}"
            self._process.kill()
        code = self._process.wait()
        self._threads[1].join(1.0)
        if finished:
            self._on_event(Finished())
        else:
            last = self._complaints[-1] if self._complaints else f"it ended with code {code}"
            self._on_event(Lost(why or last))

    def _hear_all(self) -> bool:
        """Take in what the generator tells until its end; whether it finished."""
        assert self._process.stdout is not None  # opened as a pipe
        finished = False
        while (frame := read_frame(self._process.stdout)) is not None:
            head, blobs = frame
            if head["kind"] == "ready":
                self._on_event(Ready())
            elif head["kind"] == "acknowledged":
                self._on_event(Acknowledged(head["number"]))
            elif head["kind"] == "second":
                # Folded here, so that the loop shares its interpreter with nothing but the wire.
                folded, histograms = rollup.fold(rollup.Second(**head["second"]), view(blobs[0]), self._cells)
                self._on_event(SecondDone(folded.as_dict(), histograms, blobs[0]))
            elif head["kind"] == "whole":
                # Masked here, where it takes no time of the loop.
                self._on_event(KeptWhole([self._masked(Whole(**one)) for one in head["requests"]]))
            elif head["kind"] == "finished":
                finished = True
        return finished

    def _masked(self, one: Whole) -> Whole:
        def hidden(text: str) -> str:
            return secrecy.hidden(text, self._secrets)

        return replace(
            one,
            url=hidden(one.url),
            sent_headers=hidden(one.sent_headers),
            sent_body=hidden(one.sent_body),
            headers=hidden(one.headers),
            body=hidden(one.body),
        )

    def _hear_complaints(self) -> None:
        assert self._process.stderr is not None  # opened as a pipe
        for line in self._process.stderr:
            if text := line.decode(errors="replace").strip():
                self._complaints.append(text)
