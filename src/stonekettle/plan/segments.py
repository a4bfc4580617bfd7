"""The sentences a load is told in: hold, climb, drop, jump, ramp, wait, gather, search. Each goes on from where the
one before it left the load; what is said absolutely (``users``, ``from``) begins there whatever was before.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from typing import Annotated, Any, Generic, Protocol, TypeVar

from pydantic import BeforeValidator, Discriminator, Field, Tag, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.plan.parts import CHOICE, Part
from stonekettle.plan.quantities import Duration, Share, parse_rate

MAX_USERS = 50_000
MAX_RATE = 20_000.0
"""Arrivals per second."""

Amount = TypeVar("Amount", int, float)
Users = Annotated[int, Field(ge=0, le=MAX_USERS)]
Rate = Annotated[float, BeforeValidator(parse_rate), Field(ge=0, le=MAX_RATE, allow_inf_nan=False)]
UserStep = Annotated[int, Field(gt=0, le=MAX_USERS)]
RateStep = Annotated[float, BeforeValidator(parse_rate), Field(gt=0, le=MAX_RATE, allow_inf_nan=False)]
UserChange = Annotated[int, Field(ge=-MAX_USERS, le=MAX_USERS)]
RateChange = Annotated[float, Field(ge=-MAX_RATE, le=MAX_RATE, allow_inf_nan=False)]
Change = TypeVar("Change", int, float)
Step = TypeVar("Step", int, float)
Fault = tuple[str, str]
"""What is wrong, and how to mend it."""


class Sentence(Protocol):
    def after(self, level: float) -> tuple[Segment, ...]:
        """The segments it stands for, begun at this load."""

    def fault(self, level: float) -> Fault | None:
        """What is wrong with it where the load stands at ``level``."""


class _Said(Part):
    def fault(self, level: float) -> Fault | None:
        return None


class HoldUsers(Part):
    users: Users | None = None
    during: Duration = Field(alias="for")


class HoldRate(Part):
    rate: Rate | None = None
    during: Duration = Field(alias="for")


class UserHold(_Said):
    """So many users for so long; as many as there are where it does not say."""

    hold: HoldUsers

    def after(self, level: float) -> tuple[Segment, ...]:
        return (Segment.hold(level if self.hold.users is None else self.hold.users, self.hold.during),)


class RateHold(_Said):
    hold: HoldRate

    def after(self, level: float) -> tuple[Segment, ...]:
        return (Segment.hold(level if self.hold.rate is None else self.hold.rate, self.hold.during),)


class Climb(Part, Generic[Amount, Step]):
    """Stairs, each held ``every`` long: ``by`` more (or less) until ``to``, or for so long. With ``from`` the first
    stair is there; without it the first is ``by`` away from where the load stands."""

    start: Amount | None = Field(default=None, alias="from")
    end: Amount | None = Field(default=None, alias="to")
    by: Step
    every: Duration
    during: Duration | None = Field(default=None, alias="for")

    @model_validator(mode="after")
    def _one_end(self) -> Climb[Amount, Step]:
        if (self.end is None) == (self.during is None):
            mend = "Write 'to: 60', or 'for: 8 min' for so many stairs as fit."
            raise PydanticCustomError("climb", "a climb needs either 'to' or 'for'.", {"mend": mend})
        if self.during is not None and (self.every <= 0 or not _whole(self.during / self.every)):
            mend = "Make 'for' a whole number of times 'every'."
            raise PydanticCustomError("climb", "the last stair would be cut short.", {"mend": mend})
        return self


class Climbing(_Said, Generic[Amount, Step]):
    climb: Climb[Amount, Step]

    def after(self, level: float) -> tuple[Segment, ...]:
        told = self.climb
        if told.during is not None:
            first = level + told.by if told.start is None else float(told.start)
            stairs = round(told.during / told.every)
            return (Segment.climb(first, first + told.by * (stairs - 1), told.by, told.every),)
        assert told.end is not None  # by _one_end
        if told.start is not None:
            return (Segment.climb(told.start, told.end, told.by, told.every),)
        return _stairs(level, told.end, told.by, told.every)


class Drop(Part, Generic[Amount, Step]):
    """Stairs downwards, ``by`` fewer so often, until ``to``."""

    by: Step
    every: Duration
    end: Annotated[Amount, Field(default=0, alias="to")]


class Dropping(_Said, Generic[Amount, Step]):
    drop: Drop[Amount, Step]

    def after(self, level: float) -> tuple[Segment, ...]:
        return _stairs(level, min(level, self.drop.end), self.drop.by, self.drop.every)

    def fault(self, level: float) -> Fault | None:
        if self.drop.end < level:
            return None
        return (
            f"there is nothing to drop to {self.drop.end:g}: the load stands at {level:g}.",
            "Drop from a higher load.",
        )


class Jump(Part, Generic[Amount, Change]):
    """At once ``to`` so many, or ``by`` so many more or less, for so long."""

    end: Amount | None = Field(default=None, alias="to")
    by: Change | None = None
    during: Duration = Field(alias="for")

    @model_validator(mode="after")
    def _one_way(self) -> Jump[Amount, Change]:
        if (self.end is None) == (self.by is None):
            mend = "Write 'by: 45' for so many more, or 'to: 60'."
            raise PydanticCustomError("jump", "a jump needs either 'to' or 'by'.", {"mend": mend})
        return self


class Jumping(_Said, Generic[Amount, Change]):
    jump: Jump[Amount, Change]

    def after(self, level: float) -> tuple[Segment, ...]:
        there = float(self.jump.end) if self.jump.end is not None else level + float(self.jump.by or 0)
        return (Segment.hold(max(0.0, there), self.jump.during),)

    def fault(self, level: float) -> Fault | None:
        if self.jump.by is None or level + self.jump.by >= 0:
            return None
        return f"{-self.jump.by:g} cannot leave: the load stands at {level:g}.", "Let fewer leave, or jump 'to: 0'."


class Ramp(Part, Generic[Amount]):
    """A straight line, from where the load stands unless it says ``from``."""

    start: Amount | None = Field(default=None, alias="from")
    end: Amount = Field(alias="to")
    over: Duration


class Ramping(_Said, Generic[Amount]):
    ramp: Ramp[Amount]

    def after(self, level: float) -> tuple[Segment, ...]:
        start = level if self.ramp.start is None else self.ramp.start
        return (Segment.ramp(start, self.ramp.end, self.ramp.over),)


class Waiting(_Said):
    """Nobody is there for so long."""

    wait: Duration

    def after(self, level: float) -> tuple[Segment, ...]:
        return (Segment.hold(0.0, self.wait),)


class Gather(Part):
    """So many people come evenly ``within`` a time, and each stays so long."""

    users: int = Field(gt=0, le=1_000_000)
    within: Duration = Field(gt=0)
    stay: Duration = Field(gt=0)


class Gathering(_Said):
    """People there at a time: rising while they come, level while as many leave as come, then falling."""

    gather: Gather

    def after(self, level: float) -> tuple[Segment, ...]:
        told = self.gather
        turn = min(told.within, told.stay)
        most = told.users * turn / told.within
        level_s = abs(told.within - told.stay)
        held = (Segment.hold(most, level_s),) if level_s else ()
        return (Segment.ramp(0.0, most, turn), *held, Segment.ramp(most, 0.0, turn))


class Search(Part):
    """Levels between ``from`` and ``to`` users, each chosen by what the run has shown so far, for as long as ``within``
    at most: until the highest load at which every objective holds is known to within ``precision`` of itself."""

    start: UserStep = Field(default=1, alias="from")
    end: UserStep = Field(alias="to")
    within: Duration = Field(ge=60, le=86_400)
    precision: Share = Field(default=0.07, ge=0.02, le=0.5)

    @model_validator(mode="after")
    def _room(self) -> Search:
        if self.start >= self.end:
            mend = "Begin with fewer users, or go on to more."
            raise PydanticCustomError("search", "there is nothing to search between.", {"mend": mend})
        return self


class Searching(_Said):
    """Nobody knows its levels beforehand: its profile is the most it may come to."""

    search: Search

    def after(self, level: float) -> tuple[Segment, ...]:
        return (Segment.hold(self.search.end, self.search.within),)


def one_of(*keys: str) -> Any:
    """Chooses by which of the keys there is, and nothing where there is none or several."""

    def chosen(value: Any) -> str | None:
        there = [key for key in keys if (key in value if isinstance(value, dict) else hasattr(value, key))]
        return CHOICE + there[0] if len(there) == 1 else None

    return chosen


def _segment(*verbs: str) -> Any:
    return Discriminator(
        one_of(*verbs),
        custom_error_type="segment",
        custom_error_message=f"a segment needs exactly one of {', '.join(verbs[:-1])} and {verbs[-1]}.",
        custom_error_context={"mend": "Write each on its own line with a dash before it."},
    )


UserSegment = Annotated[
    Annotated[UserHold, Tag(f"{CHOICE}hold")]
    | Annotated[Climbing[Users, UserStep], Tag(f"{CHOICE}climb")]
    | Annotated[Dropping[Users, UserStep], Tag(f"{CHOICE}drop")]
    | Annotated[Jumping[Users, UserChange], Tag(f"{CHOICE}jump")]
    | Annotated[Ramping[Users], Tag(f"{CHOICE}ramp")]
    | Annotated[Waiting, Tag(f"{CHOICE}wait")]
    | Annotated[Gathering, Tag(f"{CHOICE}gather")]
    | Annotated[Searching, Tag(f"{CHOICE}search")],
    _segment("hold", "climb", "drop", "jump", "ramp", "wait", "gather", "search"),
]
RateSegment = Annotated[
    Annotated[RateHold, Tag(f"{CHOICE}hold")]
    | Annotated[Climbing[Rate, RateStep], Tag(f"{CHOICE}climb")]
    | Annotated[Dropping[Rate, RateStep], Tag(f"{CHOICE}drop")]
    | Annotated[Jumping[Rate, RateChange], Tag(f"{CHOICE}jump")]
    | Annotated[Ramping[Rate], Tag(f"{CHOICE}ramp")]
    | Annotated[Waiting, Tag(f"{CHOICE}wait")],
    _segment("hold", "climb", "drop", "jump", "ramp", "wait"),
]


def profile_of(sentences: Sequence[Sentence]) -> LoadProfile:
    """The load profile that sentences tell, one after the other."""
    return LoadProfile(tuple(segment for _, made in _told(sentences) for segment in made))


def faults(sentences: Sequence[Sentence]) -> Iterator[tuple[int, Fault]]:
    """What is wrong with which sentence, as it goes on from those before it."""
    for place, (sentence, (level, _)) in enumerate(zip(sentences, _told(sentences), strict=True)):
        if (fault := sentence.fault(level)) is not None:
            yield place, fault
    gathers = [(i, s) for i, s in enumerate(sentences) if isinstance(s, Gathering)]
    for place, sentence in gathers:
        if sentence.gather.stay != gathers[0][1].gather.stay:
            yield (
                place,
                ("people of one group stay equally long.", "Put those who stay longer into a group of their own."),
            )
    if len(sentences) > 1:
        mend = "Remove the other sentences, or put the search into an experiment of its own."
        searches = [place for place, sentence in enumerate(sentences) if isinstance(sentence, Searching)]
        yield from ((place, ("a search leads the whole load of its group.", mend)) for place in searches)
    for place, sentence in enumerate(sentences):
        if gathers and not isinstance(sentence, Gathering | Waiting):
            mend = "Put it into a group of its own; beside a gathering only 'wait' goes."
            yield place, ("who gathers comes and leaves one by one, the others as they are told.", mend)
            return


def stay_of(sentences: Iterable[Sentence]) -> float | None:
    """How long each person stays (s), in a load of gatherings."""
    return next((s.gather.stay for s in sentences if isinstance(s, Gathering)), None)


def search_of(sentences: Iterable[Sentence]) -> Search | None:
    """What leads the load where nobody planned it."""
    return next((s.search for s in sentences if isinstance(s, Searching)), None)


def _told(sentences: Iterable[Sentence]) -> Iterator[tuple[float, tuple[Segment, ...]]]:
    """Where each sentence begins, with its segments."""
    level = 0.0
    for sentence in sentences:
        made = sentence.after(level)
        yield level, made
        level = made[-1].end if made else level


def _stairs(level: float, end: float, by: float, every: float) -> tuple[Segment, ...]:
    """Stairs from the first one after ``level`` to ``end``; the last is ``end``, however near."""
    away = abs(end - level)
    whole = math.floor(away / by + 1e-9)
    sign = math.copysign(1.0, end - level)
    made = [Segment.climb(level + sign * by, level + sign * by * whole, by, every)] if whole else []
    if away - whole * by > 1e-9 or not made:
        made.append(Segment.hold(end, every))
    return tuple(made)


def _whole(number: float) -> bool:
    return round(number) >= 1 and abs(number - round(number)) < 1e-6
