"""The plan: system, journeys, feeds, load profile and objectives, as one typed document."""

from __future__ import annotations

import csv
import io
import json
import re
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.core.distribution import Law
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.plan.parts import Name, Part
from stonekettle.plan.quantities import Duration, Share, format_duration, parse_duration
from stonekettle.plan.system import Component, Meter, System

MAX_USERS = 50_000


class Think(Part):
    """Think time after a step. Written short as "exponential 4 s" or "4 s" (fixed)."""

    law: Literal["fixed", "uniform", "exponential", "lognormal"] = "exponential"
    mean: Duration
    spread: Duration = 0.0

    @model_validator(mode="before")
    @classmethod
    def _short_form(cls, value: object) -> object:
        if not isinstance(value, str):
            return value
        word, _, rest = value.strip().partition(" ")
        if word in ("exponential", "lognormal"):
            return {"law": word, "mean": rest}
        if word == "uniform":
            low, _, high = rest.partition(" to ")
            bounds = parse_duration(low), parse_duration(high)
            return {
                "law": word,
                "mean": format_duration(sum(bounds) / 2),
                "spread": format_duration((bounds[1] - bounds[0]) / 2),
            }
        return {"law": "fixed", "mean": value}

    def as_law(self) -> Law:
        return Law(self.law, self.mean, self.spread)


class Step(Part):
    """One user action: a request, the status it expects, and the think time that follows."""

    name: Name
    request: str
    headers: dict[str, str] = Field(default_factory=dict)
    json_body: Any = Field(default=None, alias="json")
    expect_status: tuple[int, ...] = (200,)
    time_limit: Duration = 30.0
    think: Think = Think(law="fixed", mean="0 s")

    @field_validator("request")
    @classmethod
    def _method_and_path(cls, value: str) -> str:
        method, _, path = value.partition(" ")
        if method not in ("GET", "POST") or not path.startswith("/"):
            raise PydanticCustomError(
                "request",
                "{text} is not a request.",
                {"text": repr(value), "mend": "Write the method and the path: 'GET /departures'."},
            )
        return value

    @field_validator("expect_status", mode="before")
    @classmethod
    def _one_or_many(cls, value: object) -> object:
        return (value,) if isinstance(value, int) else value

    @property
    def method(self) -> str:
        return self.request.partition(" ")[0]

    @property
    def path(self) -> str:
        return self.request.partition(" ")[2]

    @property
    def body_text(self) -> str | None:
        return None if self.json_body is None else json.dumps(self.json_body, ensure_ascii=False)

    @property
    def texts(self) -> tuple[str, ...]:
        """Every text of the request that may hold variables."""
        return (self.path, *self.headers.values(), self.body_text or "")


class Journey(Part):
    """What a virtual user does from start to end; ``weight`` is its share among journeys begun."""

    name: Name
    weight: float = Field(default=1.0, gt=0)
    steps: tuple[Step, ...] = Field(min_length=1)


class Feed(Part):
    """Rows of data as CSV with a header; each journey begun takes the next row, round and round."""

    name: Name
    csv: str

    @field_validator("csv")
    @classmethod
    def _has_rows(cls, value: str) -> str:
        rows = list(csv.reader(io.StringIO(value.strip("\n"))))
        mend = "Write a header line with column names, then one line for each row."
        if len(rows) < 2:
            raise PydanticCustomError("feed", "the feed has no rows.", {"mend": mend})
        for number, row in enumerate(rows[1:], start=2):
            if len(row) != len(rows[0]):
                raise PydanticCustomError(
                    "feed_row",
                    "line {number} has {found} values, the header has {wanted}.",
                    {"number": number, "found": len(row), "wanted": len(rows[0]), "mend": mend},
                )
        return value

    @cached_property
    def rows(self) -> tuple[dict[str, str], ...]:
        return tuple(csv.DictReader(io.StringIO(self.csv.strip("\n"))))

    @property
    def columns(self) -> tuple[str, ...]:
        return tuple(self.rows[0])


Users = Annotated[int, Field(ge=0, le=MAX_USERS)]


class Hold(Part):
    users: Users
    during: Duration = Field(alias="for")


class Climb(Part):
    """Stairs: ``by`` users more (or fewer) every so often, from and to inclusive."""

    start: Users = Field(alias="from")
    end: Users = Field(alias="to")
    by: int = Field(gt=0)
    every: Duration


class Ramp(Part):
    start: Users = Field(alias="from")
    end: Users = Field(alias="to")
    over: Duration


class LoadSegment(Part):
    """One stretch of the load profile: exactly one of hold, climb and ramp."""

    hold: Hold | None = None
    climb: Climb | None = None
    ramp: Ramp | None = None

    @model_validator(mode="after")
    def _exactly_one(self) -> LoadSegment:
        if sum(part is not None for part in (self.hold, self.climb, self.ramp)) != 1:
            raise PydanticCustomError(
                "segment",
                "a segment needs exactly one of hold, climb and ramp.",
                {"mend": "Write each on its own line with a dash before it."},
            )
        return self

    def as_segment(self) -> Segment:
        if self.hold:
            return Segment.hold(self.hold.users, self.hold.during)
        if self.climb:
            return Segment.climb(self.climb.start, self.climb.end, self.climb.by, self.climb.every)
        assert self.ramp is not None  # by _exactly_one
        return Segment.ramp(self.ramp.start, self.ramp.end, self.ramp.over)


_PERCENTILE = re.compile(r"p([1-9][0-9](?:\.[0-9])?)")


class Objective(Part):
    """A promise: a percentile of a step's response time (``p95: 2 s``), or an error ratio."""

    step: Name | None = None
    percentile: float | None = Field(default=None, ge=10, lt=100)
    within: Duration | None = None
    errors: Share | None = None

    @model_validator(mode="before")
    @classmethod
    def _short_form(cls, value: object) -> object:
        if not isinstance(value, dict):
            return value
        named = {key: _PERCENTILE.fullmatch(key) for key in value if isinstance(key, str)}
        short = [(key, match) for key, match in named.items() if match]
        if len(short) != 1:
            return value
        key, match = short[0]
        rest = {k: v for k, v in value.items() if k != key}
        return {**rest, "percentile": float(match[1]), "within": value[key]}

    @model_validator(mode="after")
    def _exactly_one(self) -> Objective:
        timed = self.percentile is not None and self.within is not None
        if timed == (self.errors is not None) or (self.percentile is None) != (self.within is None):
            raise PydanticCustomError(
                "objective",
                "an objective needs either a percentile with a time or an error share.",
                {"mend": "Write 'p95: 2 s' or 'errors: 1 %'."},
            )
        return self


class Plan(Part):
    """One experiment, whole: everything a run uses."""

    name: Name
    question: str = ""
    system: System
    feeds: tuple[Feed, ...] = ()
    journeys: tuple[Journey, ...] = Field(min_length=1)
    load: tuple[LoadSegment, ...] = Field(min_length=1)
    objectives: tuple[Objective, ...] = ()
    error_limit: Share = 0.05

    @property
    def profile(self) -> LoadProfile:
        return LoadProfile(tuple(segment.as_segment() for segment in self.load))

    @property
    def steps(self) -> tuple[tuple[Journey, Step], ...]:
        """Every step with its journey; a step's place here is its number in all data."""
        return tuple((journey, step) for journey in self.journeys for step in journey.steps)

    @property
    def meters(self) -> tuple[tuple[Component, Meter], ...]:
        return self.system.meters

    @property
    def addresses(self) -> tuple[tuple[str, str], ...]:
        """Every address the run will talk to, with its path in the document."""
        return tuple((f"system.{path}", where) for path, where in self.system.addresses)
