"""Who comes: groups of people alike, each with its own schedule, in users or in arrivals per second."""

from __future__ import annotations

import re
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import BeforeValidator, Discriminator, Field, PrivateAttr, Tag, field_validator, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.core.load_profile import LoadProfile
from stonekettle.plan.parts import CHOICE, Name, Part
from stonekettle.plan.quantities import BitRate, Duration
from stonekettle.plan.segments import (
    MAX_USERS,
    RateSegment,
    Search,
    Sentence,
    UserSegment,
    one_of,
    profile_of,
    search_of,
    stay_of,
)

EVERYONE = "everyone"
"""The group of a plan that names none."""


class Network(Part):
    """What a person's line carries, in bits per second (None: as fast as it goes), and the time that its round trips
    take besides: one for each request, one for a new connection, one more where that is encrypted."""

    down: BitRate | None = Field(default=None, ge=1_000, le=100e9)
    up: BitRate | None = Field(default=None, ge=1_000, le=100e9)
    round_trip: Duration | None = Field(default=None, gt=0, le=10)


Region = Annotated[str, Field(max_length=40, pattern=r"^[a-z0-9-]*$")]


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
    so many. A ``region`` is where they come from: only its generators play them; ``regions`` are several, each with
    its share of the people."""

    name: Name
    mix: Mix = Field(default_factory=dict, max_length=100)
    region: Region = ""
    regions: dict[Region, Annotated[float, Field(gt=0, le=1e9)]] = Field(default_factory=dict, max_length=20)
    network: Network = Network()
    leave: Literal["after the step", "after the journey"] = "after the step"
    _portion: float = PrivateAttr(1.0)

    @model_validator(mode="after")
    def _one_origin(self) -> Self:
        if self.region and self.regions:
            mend = "Write 'region: north', or 'regions: {north: 60, south: 40}'."
            raise PydanticCustomError("region", "a group comes from one region or from several.", {"mend": mend})
        if self.regions and any(isinstance(part, Fixed) for part in self.mix.values()):
            mend = "Give shares in the mix, or a group for each region."
            raise PydanticCustomError("regions", "counts of users cannot be shared among regions.", {"mend": mend})
        return self

    @property
    def portion(self) -> float:
        """The share of their group's load that these are."""
        return self._portion

    @property
    def parts(self) -> tuple[Self, ...]:
        """The same people, those of each region by themselves."""
        if not self.regions:
            return (self,)
        total, found = sum(self.regions.values()), []
        for region, share in self.regions.items():
            part = self.model_copy(update={"name": f"{self.name} from {region}", "region": region, "regions": {}})
            part._portion = share / total
            found.append(part)
        return tuple(found)


class UserGroup(_People):
    """So many people at a time, who think between their steps and come again."""

    users: tuple[UserSegment, ...] = Field(min_length=1, max_length=500)
    journeys_each: int | None = Field(default=None, ge=1, le=1_000_000)

    arrives: ClassVar[bool] = False

    @property
    def profile(self) -> LoadProfile:
        return profile_of(self.users).scaled(self._portion)

    @property
    def told(self) -> tuple[Sentence, ...]:
        return self.users

    @property
    def stay_s(self) -> float | None:
        """How long each stays before another one takes the place; None: as long as the load asks for."""
        return stay_of(self.users)

    @property
    def search(self) -> Search | None:
        """What leads their load by what the run shows."""
        return search_of(self.users)


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
        return profile_of(self.arrivals).scaled(self._portion)

    @property
    def room(self) -> int:
        """So many may be there at a time."""
        return max(1, round(self.at_most * self._portion))

    @property
    def told(self) -> tuple[Sentence, ...]:
        return self.arrivals


Group = Annotated[
    Annotated[UserGroup, Tag(f"{CHOICE}users")] | Annotated[ArrivalGroup, Tag(f"{CHOICE}arrivals")],
    Discriminator(
        one_of("users", "arrivals"),
        custom_error_type="group",
        custom_error_message="a group needs exactly one of users and arrivals.",
        custom_error_context={"mend": "Write its segments under 'users:' or under 'arrivals:'."},
    ),
]


class Generators(Part):
    """What becomes of a run that loses a generator: others take over its people, it goes on with less load, or
    it ends; and what each of them costs an hour, in the system's currency."""

    when_lost: Literal["take over", "go on with less", "end"] = "take over"
    price_per_hour: float | None = Field(default=None, ge=0, le=1e6)
