"""How much room is there above the load that is expected at the peak?

The comfort limit over the expected peak, less one; its interval is that of the limit. A peak in steps per second is
held against the throughput at the limit and at the ends of its interval. Where every objective held to the highest load
of the run, that load is what is known: there is so much room at least, or what lies above it was not tried.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.levels import Level
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.types import CoreInputError, Estimate

PeakIn = Literal["load", "throughput"]
"""Along the load axis (users, or arrivals per second), or in steps per second."""
Standing = Literal["enough", "short", "close", "at least", "not tried"]


@dataclass(frozen=True)
class Headroom:
    """The room above a ``peak``, as a share of it (below 0: so much is missing).

    ``enough`` or ``short`` where the whole interval says so, ``close`` where it holds the peak itself; ``at least`` and
    ``not tried`` where no limit was reached, and ``room.value`` is that of the highest load tried. ``load`` is where
    the peak lies along the load axis, None where no level reached it.
    """

    standing: Standing
    peak: float
    peak_in: PeakIn
    room: Estimate
    load: float | None


def headroom(comfort: ComfortLimit, levels: Sequence[Level], peak: float, peak_in: PeakIn) -> Headroom:
    """The room of a run with these levels above an expected ``peak``. Raises :class:`CoreInputError` unless the peak is
    above 0."""
    if not peak > 0:
        raise CoreInputError(f"peak: {peak} is no load. Give one above 0.")
    ordered = sorted(levels, key=lambda level: level.load.delivered)
    loads = np.array([0.0, *(level.load.delivered for level in ordered)])
    rates = np.array([0.0, *(level.throughput for level in ordered)])

    def measured(load: float) -> float:
        """A load in the unit of the peak. Throughput does not fall on the way to a limit."""
        return load if peak_in == "load" else float(np.interp(load, loads, np.maximum.accumulate(rates)))

    at = peak if peak_in == "load" else _load_of(peak, loads, np.maximum.accumulate(rates))
    if comfort.load is None:
        room = measured(comfort.tested) / peak - 1
        return Headroom("at least" if room >= 0 else "not tried", peak, peak_in, Estimate(room, room, room), at)
    value, low, high = (measured(load) / peak - 1 for load in (comfort.load.value, comfort.load.low, comfort.load.high))
    room_found = Estimate(value, low, high, comfort.load.confidence)
    standing: Standing = "enough" if low >= 0 else "short" if high < 0 else "close"
    return Headroom(standing, peak, peak_in, room_found, at)


def _load_of(rate: float, loads: np.ndarray, rates: np.ndarray) -> float | None:
    """Where so many steps per second were first done; None where they never were."""
    reached = np.flatnonzero(rates >= rate)
    if not reached.size:
        return None
    upper = int(reached[0])
    return float(np.interp(rate, rates[upper - 1 : upper + 1], loads[upper - 1 : upper + 1]))
