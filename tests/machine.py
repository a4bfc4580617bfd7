"""Figures that a machine which others use can only make worse."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

T = TypeVar("T")

PATIENCE_S = 90.0
"""A host takes the processors away for seconds to half a minute at a stretch."""


def at_best(measure: Callable[[], T], holds: Callable[[T], bool], within_s: float = PATIENCE_S) -> T:
    """What ``measure`` gives as soon as ``holds`` is true of it, else what it gave last.

    For brackets that other work on the machine can break and never mend, such as the upper end of a time: a fault
    of ours breaks them each time, so that the test, which asserts the same of what it gets, fails.
    """
    until = time.monotonic() + within_s
    while not holds(found := measure()) and time.monotonic() < until:
        pass
    return found
