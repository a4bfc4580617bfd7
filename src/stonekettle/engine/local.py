"""A fleet of one generator on this machine, and the practice system's directory."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence

import urllib3

from stonekettle.engine.conductor import FleetStatus
from stonekettle.engine.process import Event, Finished, GeneratorProcess, Lost, Ready, SecondDone
from stonekettle.plan.models import Plan


class LocalFleet:
    """One generator process; ``on_second`` gets its seconds in order, from another thread."""

    def __init__(self, on_second: Callable[[SecondDone], None], *, seed: int = 1) -> None:
        self._on_second = on_second
        self._seed = seed
        self._lock = threading.Lock()
        self._status = FleetStatus(ready=False, finished=False)
        self.process: GeneratorProcess | None = None
        self.clock_offset_s = 0.0

    def prepare(self, plan: Plan) -> None:
        self.process = GeneratorProcess(plan, self._hear, seed=self._seed)

    def begin(self, at: float) -> None:
        if self.process is not None:
            self.process.begin(at)

    def drain(self) -> None:
        if self.process is not None:
            self.process.drain()

    def status(self) -> FleetStatus:
        with self._lock:
            return self._status

    def close(self) -> None:
        if self.process is not None:
            self.process.close()

    def _hear(self, event: Event) -> None:
        if isinstance(event, SecondDone):
            self._on_second(event)
            return
        with self._lock:
            if isinstance(event, Ready):
                self.clock_offset_s = event.clock_offset_s
                self._status = FleetStatus(ready=True, finished=False)
            elif isinstance(event, Finished):
                self._status = FleetStatus(ready=True, finished=True)
            elif isinstance(event, Lost):
                self._status = FleetStatus(ready=False, finished=False, lost=event.reason)


def practice_directory(control_url: str | None) -> Mapping[str, Sequence[str]]:
    """Where the practice system's components are, or an empty mapping when it does not run."""
    if control_url is None:
        return {}
    try:
        answer = urllib3.request("GET", f"{control_url}/directory", timeout=2.0, retries=False)
    except urllib3.exceptions.HTTPError:
        return {}
    found: dict[str, list[str]] = answer.json()
    return found
