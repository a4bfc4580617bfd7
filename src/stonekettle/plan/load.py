"""Who comes: groups of people alike, each with its own schedule, in users or in arrivals per second."""

from __future__ import annotations

import re
from typing import Annotated, Any, ClassVar, Generic, Literal, TypeVar

from pydantic import BeforeValidator, Discriminator, Field, Tag, field_validator
from pydantic_core import PydanticCustomError

from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.plan.parts import CHOICE, Name, Part
from stonekettle.plan.quantities import BitRate, Duration, parse_rate

MAX_USERS = 50_000
MAX_RATE = 20_000.0
"""Arrivals per second."""
EVERYONE = "everyone"
"""The group of a plan that names none."""

Amount = TypeVar("Amount", int, float)
Users = Annotated[int, Field(ge=0, le=MAX_USERS)]
Rate = Annotated[float, BeforeValidator(parse_rate), Field(ge=0, le=MAX_RATE, allow_inf_nan=False)]


class HoldUsers(Part):
    users: Users
    during: Duration = Field(alias="for")

    @property
    def segment(self) -> Segment:
        return Segment.hold(self.users, self.during)


class HoldRate(Part):
    rate: Rate
    during: Duration = Field(alias="for")

    @property
    def segment(self) -> Segment:
        return Segment.hold(self.rate, self.during)


class Climb(Part, Generic[Amount]):
    """Stairs: ``by`` more (or less) every so often, from and to inclusive."""

    start: Amount = Field(alias="from")
    end: Amount = Field(alias="to")
    by: Annotated[Amount, Field(gt=0)]
    every: Duration

    @property
    def segment(self) -> Segment:
        return Segment.climb(self.start, self.end, self.by, self.every)


class Ramp(Part, Generic[Amount]):
    """A straight line."""

    start: Amount = Field(alias="from")
    end: Amount = Field(alias="to")
    over: Duration

    @property
    def segment(self) -> Segment:
        return Segment.ramp(self.start, self.end, self.over)


class UserHold(Part):
    hold: HoldUsers

    @property
    def segment(self) -> Segment:
        return self.hold.segment


class RateHold(Part):
    hold: HoldRate

    @property
    def segment(self) -> Segment:
        return self.hold.segment


class Climbing(Part, Generic[Amount]):
    climb: Climb[Amount]

    @property
    def segment(self) -> Segment:
        return self.climb.segment


class Ramping(Part, Generic[Amount]):
    ramp: Ramp[Amount]

    @property
    def segment(self) -> Segment:
        return self.ramp.segment


def _one_of(*keys: str) -> Any:
    """Chooses by which of the keys there is, and nothing where there is none or several."""

    def chosen(value: Any) -> str | None:
        there = [key for key in keys if (key in value if isinstance(value, dict) else hasattr(value, key))]
        return CHOICE + there[0] if len(there) == 1 else None

    return chosen


_SEGMENT = Discriminator(
    _one_of("hold", "climb", "ramp"),
    custom_error_type="segment",
    custom_error_message="a segment needs exactly one of hold, climb and ramp.",
    custom_error_context={"mend": "Write each on its own line with a dash before it."},
)
UserSegment = Annotated[
    Annotated[UserHold, Tag(f"{CHOICE}hold")]
    | Annotated[Climbing[Users], Tag(f"{CHOICE}climb")]
    | Annotated[Ramping[Users], Tag(f"{CHOICE}ramp")],
    _SEGMENT,
]
RateSegment = Annotated[
    Annotated[RateHold, Tag(f"{CHOICE}hold")]
    | Annotated[Climbing[Rate], Tag(f"{CHOICE}climb")]
    | Annotated[Ramping[Rate], Tag(f"{CHOICE}ramp")],
    _SEGMENT,
]


class Network(Part):
    """What a person's line carries, in bits per second; None: as fast as it goes."""

    down: BitRate | None = Field(default=None, ge=1_000, le=100e9)
    up: BitRate | None = Field(default=None, ge=1_000, le=100e9)


class Fixed(Part):
    """So many users do one journey and no other."""

    users: int = Field(ge=1, le=MAX_USERS)


def _share_or_users(value: Any) -> Any:
    """``3`` is a share, ``3 users`` a count."""
    if isinstance(value, str) and (match := re.fullmatch(r"\s*([0-9]{1,6})\s*users?\s*", value)):
        value = {"users": int(match[1])}
    if isinstance(value, dict) and set(value) == {"users"} and isinstance(value["users"], int):
        if 1 <= value["users"] <= MAX_USERS:
            return Fixed(users=value["users"])
    elif isinstance(value, Fixed):
        return value
    elif isinstance(value, int | float) and not isinstance(value, bool) and 0 < value <= 1e9:
        return float(value)
    mend = "Write a share such as 3, or a count such as '3 users'."
    raise PydanticCustomError(
        "mix", "{text} is neither a share nor a count of users.", {"text": repr(value), "mend": mend}
    )


Mix = dict[Name, Annotated[float | Fixed, BeforeValidator(_share_or_users)]]


class _People(Part):
    """People alike. ``mix`` says who does which journey: shares of the journeys begun, or so many users who do
    nothing else; without it the journeys' own weights hold. ``journeys_each`` ends a person's visit after
    so many. A ``region`` is where they come from: only its generators play them."""

    name: Name
    mix: Mix = Field(default_factory=dict, max_length=100)
    region: str = Field(default="", max_length=40, pattern=r"^[a-z0-9-]*$")
    network: Network = Network()
    leave: Literal["after the step", "after the journey"] = "after the step"


class UserGroup(_People):
    """So many people at a time, who think between their steps and come again."""

    users: tuple[UserSegment, ...] = Field(min_length=1, max_length=500)
    journeys_each: int | None = Field(default=None, ge=1, le=1_000_000)

    arrives: ClassVar[bool] = False

    @property
    def profile(self) -> LoadProfile:
        return LoadProfile(tuple(part.segment for part in self.users))


class ArrivalGroup(_People):
    """People who come by themselves, so many per second whatever becomes of those before, and leave. ``law``
    spaces them evenly or at random (Poisson); with ``at_most`` there, further ones are turned away. Each has
    connections of its own, or takes over those ``kept`` by who left, as calls through a gateway do."""

    arrivals: tuple[RateSegment, ...] = Field(min_length=1, max_length=500)
    law: Literal["poisson", "even"] = "poisson"
    at_most: int = Field(default=1_000, ge=1, le=MAX_USERS)
    journeys_each: int = Field(default=1, ge=1, le=1_000_000)
    connections: Literal["own", "kept"] = "own"

    arrives: ClassVar[bool] = True

    @field_validator("mix")
    @classmethod
    def _only_shares(cls, mix: Mix) -> Mix:
        if any(isinstance(part, Fixed) for part in mix.values()):
            raise PydanticCustomError(
                "mix", "who arrives is not counted beforehand.", {"mend": "Give shares here, for example 'Browse: 3'."}
            )
        return mix

    @property
    def profile(self) -> LoadProfile:
        return LoadProfile(tuple(part.segment for part in self.arrivals))


Group = Annotated[
    Annotated[UserGroup, Tag(f"{CHOICE}users")] | Annotated[ArrivalGroup, Tag(f"{CHOICE}arrivals")],
    Discriminator(
        _one_of("users", "arrivals"),
        custom_error_type="group",
        custom_error_message="a group needs exactly one of users and arrivals.",
        custom_error_context={"mend": "Write its segments under 'users:' or under 'arrivals:'."},
    ),
]


class Generators(Part):
    """What becomes of a run that loses a generator: others take over its people, it goes on with less load, or
    it ends."""

    when_lost: Literal["take over", "go on with less", "end"] = "take over"
