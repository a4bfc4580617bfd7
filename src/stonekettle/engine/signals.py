"""What the lead of a run hears, and what it has done about it.

Both are plain values: whoever drives the lead brings the first from wherever they are, and does the second.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from stonekettle.core.orders import Order
from stonekettle.core.run_data import RunData
from stonekettle.core.types import FloatArray
from stonekettle.engine.leases import Lease
from stonekettle.engine.lifecycle import RunState


class Verb(StrEnum):
    """What people may ask of a run that is under way."""

    RAISE = "raise"
    LOWER = "lower"
    HOLD = "hold"
    PAUSE = "pause"
    RESUME = "resume"
    SKIP = "skip"
    EXTEND = "extend"
    LET_GO = "let go"
    STOP = "stop"
    CUT_OFF = "cut off"

    @property
    def amounts(self) -> bool:
        """Whether it needs an amount of load to go to."""
        return self in (Verb.RAISE, Verb.LOWER)


# Heard


@dataclass(frozen=True)
class Ready:
    """A generator is set up and can begin, or join."""

    generator: str
    region: str = ""


@dataclass(frozen=True)
class Told:
    """A second of a generator arrived, with what it told (:class:`rollup.Second`)."""

    generator: str
    second: Mapping[str, Any]


@dataclass(frozen=True)
class Acknowledged:
    """A generator has the order of this number, and all before it."""

    generator: str
    number: int


@dataclass(frozen=True)
class Lost:
    """A generator ended or fell silent while it should have been making load."""

    generator: str
    why: str


@dataclass(frozen=True)
class Finished:
    """A generator's people have gone, and everything it had to tell has been told."""

    generator: str


@dataclass(frozen=True)
class Wish:
    """What somebody wants of a group or of all groups of a region; without either, of everybody. ``amount`` (users, or
    arrivals per second) goes with raising and lowering, ``over_s`` is how long that takes, or how much longer the level
    in force lasts where it is extended."""

    verb: Verb
    who: str
    why: str = ""
    group: str | None = None
    amount: float | None = None
    over_s: float = 0.0
    region: str | None = None
    key: int = 0
    """By which the answer is told."""

    @property
    def by(self) -> str:
        """Who wants it, and why if they say so."""
        return f"{self.who}: {self.why.rstrip('.')}" if self.why else self.who


@dataclass(frozen=True)
class Measured:
    """Everything measured so far, meters too. Told now and then where a search leads the load."""

    run: RunData


@dataclass(frozen=True)
class Metered:
    """How busy resources were, by key (0..1, NaN where unknown), in the last seconds of the run so far; the newest come
    last. Told where a stop rule asks."""

    utilisation: Mapping[str, FloatArray]


Heard = Ready | Told | Acknowledged | Lost | Finished | Wish | Measured | Metered


# Done


@dataclass(frozen=True)
class Begin:
    """Load begins in so many seconds: time 0 of the run."""

    in_s: float


@dataclass(frozen=True)
class Give:
    """An order for all generators, and who wanted it for what reason."""

    order: Order
    who: str
    why: str


@dataclass(frozen=True)
class Lend:
    """A generator's lease, whole."""

    generator: str
    lease: Lease


@dataclass(frozen=True)
class Replace:
    """Look for another generator in this region, in the place of one that was lost."""

    region: str


@dataclass(frozen=True)
class GiveUp:
    """A generator that does not follow is none any more: let its people go, if it can still be reached."""

    generator: str
    why: str


@dataclass(frozen=True)
class Answer:
    """What became of a wish."""

    key: int
    accepted: bool
    text: str


@dataclass(frozen=True)
class Note:
    """Something happened at ``at_s`` that the run's story must tell."""

    at_s: float
    who: str
    text: str


@dataclass(frozen=True)
class Stand:
    """Where the course stands after the orders given so far (:meth:`course.Course.standing`)."""

    course: Mapping[str, Any]


@dataclass(frozen=True)
class Move:
    state: RunState
    cause: str


@dataclass(frozen=True)
class End:
    """The run has no load any more and will end as ``state`` once analysed."""

    state: RunState
    cause: str
    has_data: bool


Action = Begin | Give | Lend | Replace | GiveUp | Answer | Note | Stand | Move | End
