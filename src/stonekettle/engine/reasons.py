"""Why was a generator late? Its own cpu, its place in the queue, and what the host took away."""

from __future__ import annotations

import os
import resource
import time
from pathlib import Path
from typing import TypedDict

_STEAL = 7


class Figures(TypedDict):
    """Over the time since the last reading: shares of one core spent running and waiting for a
    processor, the share of all processors' time given to others by the host, involuntary context
    switches per second."""

    cpu: float
    run_queue: float
    stolen: float
    switches: float


def _opened(path: str) -> int | None:
    """A descriptor to read again and again; None where the system does not tell."""
    try:
        return os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return None


_SCHEDULING = _opened("/proc/self/schedstat")


def run_queue_delay_ns() -> int:
    """Nanoseconds this process's main thread was ready to run and had no processor, since its start."""
    return 0 if _SCHEDULING is None else int(os.pread(_SCHEDULING, 64, 0).split()[1])


class Reasons:
    """Reads the figures, each time over what passed since the time before."""

    def __init__(self) -> None:
        self._last = self._now()

    def read(self) -> Figures:
        now = self._now()
        wall, cpu, queue, switches, stolen, ticks = (a - b for a, b in zip(now, self._last, strict=True))
        self._last = now
        wall = max(wall, 1e-6)
        return Figures(
            cpu=min(1.0, cpu / wall),
            run_queue=min(1.0, queue / wall),
            stolen=stolen / ticks if ticks > 0 else 0.0,
            switches=switches / wall,
        )

    @staticmethod
    def _now() -> tuple[float, float, float, float, float, float]:
        switches = resource.getrusage(resource.RUSAGE_SELF).ru_nivcsw
        try:
            ticks = [int(n) for n in Path("/proc/stat").read_text().partition("\n")[0].split()[1:9]]
        except (OSError, ValueError):
            ticks = [0] * 8
        return (
            time.perf_counter(),
            time.process_time(),
            run_queue_delay_ns() * 1e-9,
            switches,
            ticks[_STEAL],
            sum(ticks),
        )
