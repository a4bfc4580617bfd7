"""Keeps the processes of one installation running, and ends them together."""

from __future__ import annotations

import os
import signal
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

STOP_LIMIT_S = 6.0
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
        with open(self.log, "ab", opener=_private) as log:
            self.process = subprocess.Popen(
                list(self.command),
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=subprocess.STDOUT,
                env=dict(self.environment),
                cwd="/",
                start_new_session=True,
                **self.identity,
            )
        self.started_at = time.monotonic()


def _private(path: str, flags: int) -> int:
    """Open a log that only its owner may read, one from before, too."""
    descriptor = os.open(path, flags, 0o600)
    os.fchmod(descriptor, 0o600)
    return descriptor


class Supervisor:
    """Starts children in order, restarts those that end, stops them in reverse order."""

    def __init__(self, say: Callable[[str], None]) -> None:
        self.children: list[Child] = []
        self._say = say
        self._stopping = False

    def start(self, child: Child) -> None:
        child.start()
        self.children.append(child)

    def watch(self) -> None:
        """Until :meth:`request_stop`: restart what ends, waiting longer each time."""
        while not self._stopping:
            for child in self.children:
                self._look_after(child)
            time.sleep(0.2)

    def request_stop(self, *_: object) -> None:
        self._stopping = True

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
