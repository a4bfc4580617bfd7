"""A process's place in the machine's queue for its processors."""

from __future__ import annotations

import os

AHEAD = -10
BACK = 5


def go_ahead() -> None:
    """Ask to be run before others: a process that measures, or that stands in for machines of its own,
    must not wait for a processor. Without the right to it everything stays as it is."""
    try:
        os.setpriority(os.PRIO_PROCESS, 0, AHEAD)
    except OSError:
        pass


def step_back() -> None:
    """Let others be run before this process: what only shows a run must not cost it a processor."""
    os.nice(BACK)
