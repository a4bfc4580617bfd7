"""Keeps the processes of one installation running, and ends them together."""

from __future__ import annotations

import ctypes
import os
import signal
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

STOP_LIMIT_S = 6.0
PR_SET_PDEATHSIG = 1
RESTART_FIRST_S = 0.5
RESTART_MOST_S = 10.0
STEADY_S = 20.0
"""A process that ran this long is restarted at once when it ends."""


@dataclass
class Child:
    """A process to keep running. ``identity`` is as whom (arguments of subprocess)."""

    name: str
    command: Sequence[str]
    environment: Mapping[str, str]
    log: Path
    stop_signal: signal.Signals = signal.SIGTERM
    identity: Mapping[str, Any] = field(default_factory=dict)
    process: subprocess.Popen[bytes] | None = None
    started_at: float = 0.0
    restarts: int = 0
    restart_at: float = 0.0

    def start(self) -> None:
        parent = os.getpid()
        with open(self.log, "ab", opener=_private) as log:
            self.process = subprocess.Popen(
                list(self.command),
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=subprocess.STDOUT,
                env=dict(self.environment),
                cwd="/",
                start_new_session=True,
                preexec_fn=lambda: _end_with(parent, self.stop_signal),
                **self.identity,
            )
        self.started_at = time.monotonic()


def _end_with(parent: int, number: signal.Signals) -> None:
    """In a child before its program begins: have the kernel send it ``number`` when its parent is gone, even
    killed."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, int(number))
    if os.getppid() != parent:
        os._exit(1)


def _private(path: str, flags: int) -> int:
    """Open a log that only its owner may read, one from before, too."""
    descriptor = os.open(path, flags, 0o600)
    os.fchmod(descriptor, 0o600)
    return descriptor


class Supervisor:
    """Starts children in order, restarts those that end, stops them in reverse order."""

    def __init__(self, say: Callable[[str], None], record: Path | None = None) -> None:
        """``record`` is a file that tells which processes there are, for whoever finds them left over."""
        self.children: list[Child] = []
        self._say = say
        self._record = record
        self._stopping = 0

    def start(self, child: Child) -> None:
        child.start()
        self.children.append(child)
        self._note()

    def watch(self) -> None:
        """Until :meth:`request_stop`: restart what ends, waiting longer each time."""
        while not self._stopping:
            for child in self.children:
                self._look_after(child)
            time.sleep(0.2)

    def request_stop(self, *_: object) -> None:
        self._stopping += 1

    @property
    def is_urged(self) -> bool:
        """Whether it was asked to stop more than once."""
        return self._stopping > 1

    def stop_all(self) -> None:
        """End every child and whatever it started, newest first."""
        for child in reversed(self.children):
            if child.process is None:
                continue
            family = descendants(child.process.pid)
            if child.process.poll() is None:
                child.process.send_signal(child.stop_signal)
                try:
                    child.process.wait(STOP_LIMIT_S)
                except subprocess.TimeoutExpired:
                    child.process.kill()
                    child.process.wait()
            for pid, born in family:
                if birth(pid) == born:
                    os.kill(pid, signal.SIGKILL)
        if self._record is not None:
            self._record.unlink(missing_ok=True)

    def _note(self) -> None:
        """Write down which processes there are now."""
        if self._record is None:
            return
        pids = [(child.process.pid, child.stop_signal) for child in self.children if child.process is not None]
        lines = [f"{pid} {born} {int(number)}" for pid, number in pids if (born := birth(pid))]
        self._record.write_text("\n".join(lines))

    def _look_after(self, child: Child) -> None:
        if child.process is None or child.process.poll() is None:
            return
        now = time.monotonic()
        if child.restart_at == 0.0:
            if now - child.started_at > STEADY_S:
                child.restarts = 0
            wait = min(RESTART_FIRST_S * 2**child.restarts, RESTART_MOST_S)
            child.restart_at = now + wait
            self._say(f"{child.name} ended (code {child.process.returncode}); starting it again")
        elif now >= child.restart_at:
            child.restart_at = 0.0
            child.restarts += 1
            child.start()
            self._note()


def end_left_over(record: Path) -> int:
    """End the processes that a supervisor wrote down and left behind; how many there were."""
    try:
        lines = [line.split() for line in record.read_text().splitlines()]
    except OSError:
        return 0
    left = [(int(pid), born, int(number)) for pid, born, number in lines if birth(int(pid)) == born]
    families = [member for pid, _, _ in left for member in descendants(pid)]
    for pid, _, number in reversed(left):
        os.kill(pid, number)
    give_up = time.monotonic() + STOP_LIMIT_S
    while any(birth(pid) == born for pid, born, _ in left) and time.monotonic() < give_up:
        time.sleep(0.1)
    for pid, born in [*((pid, born) for pid, born, _ in left), *families]:
        if birth(pid) == born:
            os.kill(pid, signal.SIGKILL)
    record.unlink(missing_ok=True)
    return len(left)


def birth(pid: int) -> str | None:
    """When a process was born (clock ticks since boot), None when there is none."""
    try:
        text = Path(f"/proc/{pid}/stat").read_text()
    except OSError:
        return None
    fields = text.rpartition(")")[2].split()
    return None if fields[0] == "Z" else fields[19]


def descendants(pid: int) -> list[tuple[int, str]]:
    """Processes started by ``pid``, and by those, with their birth."""
    parents: dict[int, list[int]] = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                parent = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
            except OSError:
                continue
            parents.setdefault(parent, []).append(int(entry.name))
    found, queue = [], list(parents.get(pid, []))
    while queue:
        child = queue.pop()
        if (born := birth(child)) is not None:
            found.append((child, born))
        queue.extend(parents.get(child, []))
    return found
