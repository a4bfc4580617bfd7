"""A budget of so many a second, spread over it."""

from __future__ import annotations


class Evenly:
    """Lets so many through in each second, and no more of them early than their share."""

    def __init__(self, per_second: int) -> None:
        self._per_second, self._taken = per_second, 0

    def take(self, into_second: float) -> bool:
        """Whether one that comes ``into_second`` (0..1) of this second is let through."""
        if self._taken >= self._per_second * min(1.0, into_second + 0.01):
            return False
        self._taken += 1
        return True

    def close_second(self) -> None:
        self._taken = 0
