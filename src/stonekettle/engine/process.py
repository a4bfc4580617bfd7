"""A generator as a process of its own, and the wire between it and its owner.

The owner writes orders as JSON lines to its standard input; it answers with frames on standard
output. The owner gives a sign of life each second, from a thread of its own; when it falls silent (its
process is frozen) or goes away (the input ends), the generator drains: no load without an owner.
"""

from __future__ import annotations

import json
import queue
import resource
import struct
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from typing import IO, Any

from stonekettle.engine import rollup
from stonekettle.engine.errors import GeneratorLost
from stonekettle.engine.generator import LoadLoop, settle_interpreter
from stonekettle.engine.records import view
from stonekettle.engine.script import compile_plan
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.priority import go_ahead

_HEAD = struct.Struct("<II")
DESCRIPTORS_KEPT_FREE = 200
READY_LIMIT_S = 20.0
SIGN_EVERY_S = 1.0
OWNER_SILENCE_S = 8.0
"""Without a sign of life of the owner for so long, users are let go: no load without an owner."""


@dataclass(frozen=True)
class Finished:
    """The generator has ended its load and sent everything."""


@dataclass(frozen=True)
class Ready:
    """The generator is set up; ``clock_offset_s`` is its clock minus its owner's."""

    clock_offset_s: float


@dataclass(frozen=True)
class SecondDone:
    """One second: its rollup, encoded histograms by step, and packed records."""

    rollup: dict[str, Any]
    histograms: dict[int, bytes]
    records: bytes


@dataclass(frozen=True)
class Lost:
    """The process ended without finishing."""

    reason: str


Event = Ready | SecondDone | Finished | Lost


def write_frame(stream: IO[bytes], kind: str, head: dict[str, Any], blobs: list[bytes]) -> None:
    """One frame: lengths, a JSON head, then the blobs one after the other."""
    text = json.dumps({"kind": kind, "sizes": [len(b) for b in blobs], **head}).encode()
    stream.write(_HEAD.pack(len(text), sum(map(len, blobs))) + text)
    for blob in blobs:
        stream.write(blob)
    stream.flush()


def read_frame(stream: IO[bytes]) -> tuple[dict[str, Any], list[bytes]] | None:
    """The next frame, or None at the end or where the writer was cut off."""
    head = stream.read(_HEAD.size)
    if len(head) < _HEAD.size:
        return None
    text_size, blob_size = _HEAD.unpack(head)
    text, data = stream.read(text_size), stream.read(blob_size)
    if len(text) < text_size or len(data) < blob_size:
        return None
    decoded = json.loads(text)
    blobs, offset = [], 0
    for size in decoded["sizes"]:
        blobs.append(data[offset : offset + size])
        offset += size
    return decoded, blobs


class GeneratorProcess:
    """The owner's end: starts a generator, gives it orders, hears its events in a thread.

    ``on_event`` is called from that thread, in order, ending with Finished or Lost.
    """

    def __init__(
        self, plan: Plan, on_event: Callable[[Event], None], *, share: tuple[int, int] = (0, 1), seed: int = 1
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
        setup = {"plan": document.to_document(plan), "files": files, "share": share, "seed": seed}
        self._complaints: deque[str] = deque(maxlen=20)
        self._steps = len(plan.steps)
        self._telling = threading.Lock()
        self._closed = threading.Event()
        self._tell(setup)
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
        """Begin at ``at``, seconds since the epoch on the owner's clock."""
        self._tell({"order": "begin", "at": at})

    def drain(self) -> None:
        self._tell({"order": "drain"})

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
            self._tell({"order": "go on"})

    def _listen(self) -> None:
        assert self._process.stdout is not None  # opened as a pipe
        finished = False
        while (frame := read_frame(self._process.stdout)) is not None:
            head, blobs = frame
            if head["kind"] == "ready":
                self._on_event(Ready(head["clock"] - time.time()))
            elif head["kind"] == "second":
                # Folded here, so that the loop shares its interpreter with nothing but the wire.
                folded, histograms = rollup.fold(rollup.Second(**head["second"]), view(blobs[0]), self._steps)
                self._on_event(SecondDone(folded.as_dict(), histograms, blobs[0]))
            elif head["kind"] == "finished":
                finished = True
        code = self._process.wait()
        self._threads[1].join(1.0)
        if finished:
            self._on_event(Finished())
        else:
            last = self._complaints[-1] if self._complaints else f"it ended with code {code}"
            self._on_event(Lost(last))

    def _hear_complaints(self) -> None:
        assert self._process.stderr is not None  # opened as a pipe
        for line in self._process.stderr:
            if text := line.decode(errors="replace").strip():
                self._complaints.append(text)


def raise_descriptor_limit(users: int) -> None:
    """Allow a socket for each user; raises :class:`GeneratorLost` when the machine allows fewer."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if users + DESCRIPTORS_KEPT_FREE > hard:
        raise GeneratorLost(
            f"{users} users need as many connections, this machine allows "
            f"{hard - DESCRIPTORS_KEPT_FREE}: raise its limit on open files or use fewer users"
        )
    if soft < hard:
        resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))


def main() -> None:
    """The generator's end of the wire."""
    setup = json.loads(sys.stdin.buffer.readline())
    plan = document.with_files(document.stored(setup["plan"]), setup["files"].get)
    try:
        raise_descriptor_limit(int(plan.profile.peak_users))
    except GeneratorLost as error:
        sys.exit(str(error))
    script = compile_plan(plan)
    outgoing: queue.SimpleQueue[tuple[rollup.Second, bytes] | None] = queue.SimpleQueue()
    writer = threading.Thread(target=_write_seconds, args=(outgoing,), name="seconds", daemon=True)
    owner = _Owner()
    threading.Thread(target=owner.listen, name="orders", daemon=True).start()
    loop = LoadLoop(
        script,
        plan.profile,
        lambda second, data: outgoing.put((second, data)),
        share=tuple(setup["share"]),
        seed=setup["seed"],
    )
    write_frame(sys.stdout.buffer, "ready", {"clock": time.time()}, [])
    begin_at = owner.beginning()
    if begin_at is None:
        return
    settle_interpreter()
    go_ahead()
    writer.start()
    loop.run(time.perf_counter() + begin_at - time.time(), owner.order)
    outgoing.put(None)
    writer.join()


class _Owner:
    """What the owner orders, and whether it is still there."""

    def __init__(self) -> None:
        self._orders: queue.SimpleQueue[dict[str, Any]] = queue.SimpleQueue()
        self._signs = self._seen = 0
        self._silent_s = 0.0
        self._asked_at = time.monotonic()

    def listen(self) -> None:
        for line in sys.stdin.buffer:
            order = json.loads(line)
            self._signs += 1
            if order["order"] != "go on":
                self._orders.put(order)
        self._orders.put({"order": "drain"})

    def beginning(self) -> float | None:
        """When to begin (seconds since the epoch), once that is told; None where nothing shall begin."""
        first = self._orders.get()
        return float(first["at"]) if first["order"] == "begin" else None

    def order(self) -> str | None:
        """The next order, "drain" also when the owner has been silent for too long. A stall of this process
        itself counts as one second at most: signs given meanwhile have yet to be read."""
        now = time.monotonic()
        self._silent_s += min(now - self._asked_at, 1.0)
        self._asked_at = now
        if self._signs != self._seen:
            self._seen, self._silent_s = self._signs, 0.0
        if self._silent_s > OWNER_SILENCE_S:
            return "drain"
        return None if self._orders.empty() else str(self._orders.get()["order"])


def _write_seconds(outgoing: queue.SimpleQueue[tuple[rollup.Second, bytes] | None]) -> None:
    """Send each second, away from the loop: writing does not hold the interpreter."""
    stream = sys.stdout.buffer
    while (item := outgoing.get()) is not None:
        second, data = item
        write_frame(stream, "second", {"second": vars(second)}, [data])
    write_frame(stream, "finished", {}, [])


if __name__ == "__main__":
    main()
