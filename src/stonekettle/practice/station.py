"""Simulated capacity in real time: servers with next-free times, and connection pools.

Nothing burns cpu: a request's service is computed on arrival and slept for. Each request carries
its own virtual time, so late wake-ups of the event loop do not add up.
"""

from __future__ import annotations

import asyncio
import heapq
from collections import deque

from stonekettle.practice.shapes import Pauses


class Servers:
    """``count`` servers with one queue, first come first served. Times are seconds since the system began, so that its
    ``pauses`` are told on the same clock."""

    def __init__(self, count: int, pauses: Pauses) -> None:
        self.count, self._pauses = count, pauses
        self._free_at = [0.0] * count
        self._assigned = 0.0

    def serve(self, arrival: float, service_s: float) -> float:
        """When a request that arrives at ``arrival`` will be done."""
        end = self._pauses.ends(max(arrival, self._free_at[0]), service_s)
        heapq.heapreplace(self._free_at, end)
        self._assigned += service_s
        return end

    def resize(self, now: float, count: int) -> None:
        """Be so many servers from now on: new ones are free, and of those there the ones free first go."""
        if count > self.count:
            self._free_at += [now] * (count - self.count)
        else:
            self._free_at = sorted(self._free_at)[self.count - count :]
        heapq.heapify(self._free_at)
        self.count = count

    def busy_seconds(self, now: float) -> float:
        """Work done until ``now``: what was assigned less what still lies ahead."""
        return self._assigned - sum(max(0.0, free - now) for free in self._free_at)


class Pool:
    """Admits ``limit`` requests at a time, the others in order of arrival."""

    def __init__(self, limit: int) -> None:
        self.limit = limit
        self.in_use = 0
        self._waiting: deque[asyncio.Future[float]] = deque()

    @property
    def waiting(self) -> int:
        return len(self._waiting)

    async def enter(self, at: float) -> float:
        """Wait for a place; the virtual time at which it was given."""
        if self.in_use < self.limit:
            self.in_use += 1
            return at
        place: asyncio.Future[float] = asyncio.get_running_loop().create_future()
        self._waiting.append(place)
        return max(at, await place)

    def leave(self, at: float) -> None:
        """Give the place to the longest waiting request, or free it."""
        while self._waiting:
            place = self._waiting.popleft()
            if not place.done():
                place.set_result(at)
                return
        self.in_use -= 1
