"""When did the loop last look, and for how long was it blind?

An answer is recorded when libcurl sees it. It may have been there since the loop's last look that
did not find it; while the loop sleeps on its sockets the kernel looks for it, so then only the time
until it runs again counts. A metronome in the loop finds stalls: stretches in which it did not run.
"""

from __future__ import annotations

import time

from stonekettle.engine.driver import Driver
from stonekettle.engine.reasons import run_queue_delay_ns

AT_ONCE_S = 20e-6
"""A wait that took no longer found its sockets ready: it did not sleep."""
WAKING_S = 150e-6
"""What waking costs on an idle machine, beyond the time in the run queue."""
FORGETTING = 1 - 1 / 64
"""What a timer overslept is remembered so, wait by wait. A host that takes the processor away does not
tell, but timers that ring late do."""
STALL_S = 0.02
"""The metronome beats each 10 ms; so long without a beat, the loop stood still."""
STALLS_KEPT = 100


class Looking:
    """Looks at a driver's transfers and knows how blind it was.

    ``since``: what the present look found was not there yet at this moment (perf_counter seconds).
    """

    def __init__(self, driver: Driver) -> None:
        self._driver = driver
        self.since = self._looked = self._seen = self._alive = 0.0
        self._overslept = 0.0
        self._stalls: list[tuple[float, float]] = []

    def begin(self, at: float) -> None:
        self.since = self._looked = self._seen = self._alive = at

    @property
    def blind_s(self) -> float:
        """How long an answer found by the present look may have been there already."""
        return self._seen - self.since

    def alive(self) -> float:
        """The loop is here again; the time. Called at least once a beat."""
        now = time.perf_counter()
        if now - self._alive > STALL_S and len(self._stalls) < STALLS_KEPT:
            self._stalls.append((self._alive, now))
        self._alive = now
        return now

    def look(self) -> None:
        """Move transfers forward with what is there now."""
        self.since, self._looked = self._looked, time.perf_counter()
        self._driver.pump()
        self._seen = time.perf_counter()

    def wait(self, seconds: float) -> None:
        """Sleep until a transfer can move, at most ``seconds``; then move it."""
        queued = run_queue_delay_ns()
        began = time.perf_counter()
        self._driver.wait(seconds)
        woke = time.perf_counter()
        if woke - began > AT_ONCE_S:
            in_queue = (run_queue_delay_ns() - queued) * 1e-9
            overslept = woke - began - seconds - in_queue
            self._overslept = max(overslept, self._overslept * FORGETTING)
            self._looked = max(began, woke - in_queue - WAKING_S - self._overslept)
        self.since, self._looked = self._looked, woke
        self._driver.pump()
        self._seen = time.perf_counter()

    def take_stalls(self) -> list[tuple[float, float]]:
        """Stretches without a beat since the last call."""
        found, self._stalls = self._stalls, []
        return found
