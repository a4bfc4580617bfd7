"""Along which axis is a run read: users present, or people arriving?

Where anybody is counted in users, it is users (arriving people who are there count among them); where everybody comes
by rate, it is arrivals per second.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

LoadKind = Literal["users", "arrivals"]
NAMES: dict[LoadKind, str] = {"users": "Users", "arrivals": "Arrivals per second"}
UNITS: dict[LoadKind, str] = {"users": "users", "arrivals": "arrivals/s"}
ONE_MORE: dict[LoadKind, str] = {"users": "user", "arrivals": "arrival per second"}


@dataclass(frozen=True)
class Load:
    """The load of a level: ``ordered``, and ``delivered``, which is what the system felt. Of the latter ``blind`` may
    not have been load. In users these are those present less those overdue; in arrivals those who came, per second,
    whether or not they were let in."""

    kind: LoadKind
    ordered: float
    delivered: float
    blind: float = 0.0

    @property
    def surely(self) -> float:
        """What of it was load, whatever happened unseen."""
        return self.delivered - self.blind

    @property
    def name(self) -> str:
        return NAMES[self.kind]

    @property
    def unit(self) -> str:
        return UNITS[self.kind]
