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
    axis = _Axis(levels, peak, peak_in)
    at = axis.at_peak()
    if comfort.load is None:
        room = axis.room(comfort.tested)
        return Headroom("at least" if room >= 0 else "not tried", peak, peak_in, Estimate(room, room, room), at)
    room_found = axis.room_to(comfort.load)
    standing: Standing = "enough" if room_found.low >= 0 else "short" if room_found.high < 0 else "close"
    return Headroom(standing, peak, peak_in, room_found, at)


def room_below(load: Estimate, levels: Sequence[Level], peak: float, peak_in: PeakIn) -> Estimate:
    """How far above a ``peak`` a load lies, as a share of it: of the breaking point, for example. Raises
    :class:`CoreInputError` unless the peak is above 0."""
    return _Axis(levels, peak, peak_in).room_to(load)


class _Axis:
    """Loads in the unit of a peak. Throughput does not fall on the way to a limit."""

    def __init__(self, levels: Sequence[Level], peak: float, peak_in: PeakIn) -> None:
        if not peak > 0:
            raise CoreInputError(f"peak: {peak} is no load. Give one above 0.")
        ordered = sorted(levels, key=lambda level: level.load.delivered)
        self._peak, self._peak_in = peak, peak_in
        self._loads = np.array([0.0, *(level.load.delivered for level in ordered)])
        self._rates = np.maximum.accumulate([0.0, *(level.throughput for level in ordered)])

    def room(self, load: float) -> float:
        told = load if self._peak_in == "load" else float(np.interp(load, self._loads, self._rates))
        return told / self._peak - 1

    def room_to(self, load: Estimate) -> Estimate:
        return Estimate(self.room(load.value), self.room(load.low), self.room(load.high), load.confidence)

    def at_peak(self) -> float | None:
        """Where the peak lies along the load axis; None where so many steps per second were never done."""
        if self._peak_in == "load":
            return self._peak
        reached = np.flatnonzero(self._rates >= self._peak)
        if not reached.size:
            return None
        beside = slice(int(reached[0]) - 1, int(reached[0]) + 1)
        return float(np.interp(self._peak, self._rates[beside], self._loads[beside]))
