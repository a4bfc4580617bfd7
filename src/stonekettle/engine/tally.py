"""The second meter: what the loop itself counts and integrates in each second, before records are folded."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np


class Tally:
    """Counts of the current second. Times are those of the loop's clock; ``mark`` is how far is integrated.

    Users in flight and present are integrated exactly, over the moments they change at. A user is overdue
    from the moment a request was due until it is started.
    """

    def __init__(self, cells: int, groups: int) -> None:
        self.in_step = 0
        self.present = [0] * groups
        self.second = 0
        self.begun = self.mark = 0.0
        self._last_start = 0.0
        self._cells = cells
        self._flight_area = 0.0
        self._present_area = [0.0] * groups
        self.lags: list[float] = []
        self.overdue_area = self._gap = 0.0
        self.started: list[int] = []
        self.arrived: list[int] = []
        self.turned_away: list[int] = []
        self.journeys: list[int] = []
        self._reset()

    def begin(self, at: float, second: int) -> None:
        """Count from ``at`` on, which is the run's ``second``."""
        self.second = second
        self.begun = self.mark = self._last_start = at

    def advance(self, now: float) -> None:
        """Integrate up to ``now``, before the number in flight changes."""
        passed = now - self.mark
        if passed > 0:
            self._flight_area += self.in_step * passed
            self.mark = now

    def join(self, group: int, since: float) -> None:
        """Somebody is there."""
        self._present_area[group] -= max(since, self.begun) - self.begun
        self.present[group] += 1

    def leave(self, group: int, now: float) -> None:
        self._present_area[group] += now - self.begun
        self.present[group] -= 1

    def start(self, now: float, due: float, cell: int) -> None:
        """A step that was due at ``due`` is started."""
        self.advance(now)
        self.in_step += 1
        self.lags.append(now - due)
        self.overdue_area += now - (due if due > self.begun else self.begun)
        gap = now - self._last_start
        if gap > self._gap:
            self._gap = gap
        self._last_start = now
        self.started[cell] += 1

    def end(self, now: float) -> None:
        """A step is over."""
        self.advance(now)
        self.in_step -= 1

    def close(self, edge: float, waiting: Iterable[tuple[float, int | None]]) -> dict[str, Any]:
        """The figures of the second that ends at ``edge``; the next one begins. ``waiting`` tells when those not
        started yet were due, with their group where they have only now come."""
        self.advance(edge)
        # What happened after the edge, seen before this call, was integrated beyond it: hand that on.
        beyond = self.in_step * (self.mark - edge)
        length = max(edge - self.begun, 1e-6)
        overdue = self.overdue_area
        present = [area + n * (edge - self.begun) for area, n in zip(self._present_area, self.present, strict=True)]
        for due, arriving in waiting:
            late = edge - max(self.begun, due)
            overdue += late
            if arriving is not None:
                present[arriving] += late
        found: dict[str, Any] = {
            "second": self.second,
            "users": max(0.0, sum(present)) / length,
            "present": [max(0.0, area) / length for area in present],
            "in_flight": max(0.0, self._flight_area - beyond) / length,
            "overdue": overdue / length,
            "start_gap_s": self._gap,
            "lag_p99_s": float(np.percentile(self.lags, 99)) if self.lags else 0.0,
            "started": self.started,
            "arrived": self.arrived,
            "turned_away": self.turned_away,
            "journeys": self.journeys,
        }
        self.second += 1
        self.begun = edge
        self._flight_area = beyond
        self._present_area = [0.0] * len(self.present)
        self._reset()
        return found

    def _reset(self) -> None:
        self.lags = []
        self.overdue_area = self._gap = 0.0
        self.started = [0] * self._cells
        self.arrived = [0] * len(self.present)
        self.turned_away = [0] * len(self.present)
        self.journeys = [0] * len(self.present)
