"""The plan: system, journeys, feeds, load profile and objectives, as one typed document."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Annotated, Literal

from pydantic import Field, StringConstraints, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.core import orders
from stonekettle.plan.calls import Due
from stonekettle.plan.candidates import Candidate, Candidates, Value
from stonekettle.plan.feed import Feed
from stonekettle.plan.journey import Journey
from stonekettle.plan.load import EVERYONE, ArrivalGroup, Fixed, Generators, Group, UserGroup
from stonekettle.plan.parts import Name, Part
from stonekettle.plan.quantities import Duration, Share, format_duration
from stonekettle.plan.scaling import Scaling
from stonekettle.plan.segments import RateStep, Search, UserSegment
from stonekettle.plan.step import Step, Think
from stonekettle.plan.stretching import grown
from stonekettle.plan.system import Component, Meter, System

Tag = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=30, pattern=r"^[^,]*$")]
_PERCENTILE = re.compile(r"p([1-9][0-9](?:\.[0-9])?)")


class Objective(Part):
    """A promise: a percentile of a step's response time (``p95: 2 s``), its mean, an error ratio, an Apdex score
    with its target time, or at least so many steps per second (``throughput``) while the others hold. One for
    information does not decide whether a run held its objectives."""

    step: Name | None = None
    percentile: float | None = Field(default=None, ge=10, lt=100)
    within: Duration | None = None
    mean: Duration | None = Field(default=None, gt=0)
    errors: Share | None = None
    apdex: float | None = Field(default=None, gt=0, lt=1)
    target: Duration | None = Field(default=None, gt=0)
    throughput: RateStep | None = None
    role: Literal["decides", "for information"] = "decides"

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
        pairs = ((self.percentile, self.within), (self.apdex, self.target))
        ways = (self.percentile, self.mean, self.errors, self.apdex, self.throughput)
        said = [value for value in ways if value is not None]
        if len(said) != 1 or any((a is None) != (b is None) for a, b in pairs):
            raise PydanticCustomError(
                "objective",
                "an objective needs one of a percentile with a time, a mean, an error share, an Apdex score with "
                "its target time, and a throughput.",
                {
                    "mend": "Write 'p95: 2 s', 'mean: 800 ms', 'errors: 1 %', 'throughput: 40 /s', or 'apdex: 0.9' "
                    "with 'target: 500 ms'."
                },
            )
        return self


class StopRule(Part):
    """Ends a run: over ``for`` so long, taken together, a larger share of steps failed, or they took longer on the
    average (``response``), a resource (``ledger.cpu``) was busier, or a larger share of the users had answers that the
    generators had not looked at (``blur``)."""

    step: Name | None = None
    errors: Share | None = None
    response: Duration | None = Field(default=None, gt=0)
    resource: Name | None = None
    utilisation: Share | None = None
    blur: Share | None = None
    during: Duration = Field(default=10.0, alias="for", ge=1, le=3_600)

    @model_validator(mode="after")
    def _one_way(self) -> StopRule:
        said = [one for one in (self.errors, self.response, self.utilisation, self.blur) if one is not None]
        if len(said) != 1 or (self.resource is None) != (self.utilisation is None):
            raise PydanticCustomError(
                "stop",
                "a stop rule needs one of errors, a response time, a resource with its utilisation, and blur.",
                {
                    "mend": "Write 'errors: 20 %', 'response: 5 s', 'blur: 20 %', or 'resource: ledger.cpu' with "
                    "'utilisation: 95 %'."
                },
            )
        if self.step is not None and self.errors is None and self.response is None:
            raise PydanticCustomError(
                "stop_step", "this stop rule is about no step.", {"mend": "Leave out 'step', or watch its errors."}
            )
        return self


class Budget(Part):
    """A run ends once it has taken so long, or cost so much by the prices of its system's instances."""

    time: Duration | None = Field(default=None, gt=0)
    money: float | None = Field(default=None, gt=0, le=1e9, allow_inf_nan=False)


class Waits(Part):
    """One override for all think times of the experiment: a ``factor`` on them, or one law instead."""

    factor: float | None = Field(default=None, ge=0, le=100)
    think: Think | None = None

    @model_validator(mode="after")
    def _one_way(self) -> Waits:
        if (self.factor is None) == (self.think is None):
            raise PydanticCustomError(
                "waits",
                "waits need either a factor or a think time.",
                {"mend": "Write 'factor: 0.5' or 'think: exponential 2 s'."},
            )
        return self


class Plan(Part):
    """One experiment, whole: everything a run uses."""

    name: Name
    question: str = Field(default="", max_length=20_000)
    hypothesis: str = Field(default="", max_length=2_000)
    notes: str = Field(default="", max_length=20_000)
    tags: tuple[Tag, ...] = Field(default=(), max_length=20)
    system: System
    feeds: tuple[Feed, ...] = Field(default=(), max_length=100)
    journeys: tuple[Journey, ...] = Field(min_length=1, max_length=100)
    load: tuple[UserSegment, ...] = Field(default=(), max_length=500)
    groups: tuple[Group, ...] = Field(default=(), max_length=20)
    generators: Generators = Generators()
    objectives: tuple[Objective, ...] = Field(default=(), max_length=100)
    stop_when: tuple[StopRule, ...] = Field(default=(), max_length=20)
    budget: Budget = Budget()
    waits: Waits | None = None
    error_limit: Share = 0.05
    timeline: tuple[Due, ...] = Field(default=(), max_length=50)
    candidates: Candidates | None = None
    scaling: Scaling | None = None

    @model_validator(mode="after")
    def _one_way(self) -> Plan:
        if bool(self.load) == bool(self.groups):
            raise PydanticCustomError(
                "load",
                "a plan needs exactly one of load and groups.",
                {"mend": "Write segments under 'load:', or groups with their own under 'groups:'."},
            )
        return self

    @property
    def people(self) -> tuple[UserGroup | ArrivalGroup, ...]:
        """Every group, those of each region apart; the short form is one that does all journeys."""
        return tuple(part for group in self.written for part in group.parts)

    @property
    def written(self) -> tuple[UserGroup | ArrivalGroup, ...]:
        """The groups as they are written."""
        return self.groups or (UserGroup(name=EVERYONE, users=self.load),)

    def weights_of(self, group: UserGroup | ArrivalGroup) -> tuple[float, ...]:
        """The share of each journey among those a group begins, but for users who do nothing else."""
        if not group.mix:
            return tuple(journey.weight for journey in self.journeys)
        shares = {name: part for name, part in group.mix.items() if isinstance(part, float)}
        return tuple(shares.get(journey.name, 0.0) for journey in self.journeys)

    def round_of(self, group: UserGroup | ArrivalGroup) -> tuple[float, float]:
        """A mean journey of a group: how many steps it has, and how long they think in it (s)."""
        shares = list(self.weights_of(group))
        if not any(shares):
            counts = {name: float(part.users) for name, part in group.mix.items() if isinstance(part, Fixed)}
            shares = [counts.get(journey.name, 0.0) for journey in self.journeys]
        begun = sum(shares) or 1.0
        steps = sum(share * len(journey.active) for share, journey in zip(shares, self.journeys, strict=True))
        thinks = (sum(self.think_of(step).mean for step in journey.active) for journey in self.journeys)
        return steps / begun, sum(share * think for share, think in zip(shares, thinks, strict=True)) / begun

    @cached_property
    def planned(self) -> orders.Ordered:
        """The orders of a run that goes as planned."""
        profiles = {group.name: group.profile for group in self.people}
        return orders.planned(profiles, [group.name for group in self.people if group.arrives])

    @cached_property
    def search(self) -> Search | None:
        """What leads the load by what the run shows; None where all of it is planned."""
        return next((group.search for group in self.written if isinstance(group, UserGroup) and group.search), None)

    @cached_property
    def turns(self) -> Candidates | None:
        """What takes turns, each turn a run: candidates, or the values of what is scaled."""
        return self.scaling.turns(self.system) if self.scaling is not None else self.candidates

    @property
    def limit_s(self) -> float | None:
        """When the budget is spent, in seconds of load."""
        cost = self.system.cost_per_hour
        by_money = self.budget.money / cost * 3600 if self.budget.money is not None and cost else None
        return min((s for s in (self.budget.time, by_money) if s is not None), default=None)

    @property
    def budget_words(self) -> str:
        if self.budget.time is not None and self.limit_s == self.budget.time:
            return f"its budget of {format_duration(self.budget.time)} is spent"
        return f"its budget of {self.budget.money or 0:g} {self.system.currency} is spent"

    @property
    def steps(self) -> tuple[tuple[Journey, Step], ...]:
        """Every step with its journey; a step's place here is its number in all data."""
        return tuple((journey, step) for journey in self.journeys for step in journey.active)

    def think_of(self, step: Step) -> Think:
        """The think time after a step, the experiment's override applied."""
        if self.waits is None:
            return step.think
        if self.waits.think is not None:
            return self.waits.think
        factor = self.waits.factor if self.waits.factor is not None else 1.0
        return step.think.model_copy(update={"mean": step.think.mean * factor, "spread": step.think.spread * factor})

    @property
    def meters(self) -> tuple[tuple[Component, Meter], ...]:
        return self.system.meters

    @property
    def addresses(self) -> tuple[tuple[str, str], ...]:
        """Every address the run will talk to, with its path in the document."""
        elsewhere = (
            (f"journeys[{i}].steps[{j}].request", host)
            for i, journey in enumerate(self.journeys)
            for j, step in enumerate(journey.steps)
            for host in step.elsewhere
        )
        counts = (
            (f"journeys[{i}].proof.address", journey.proof.address)
            for i, journey in enumerate(self.journeys)
            if journey.proof is not None and journey.proof.address and not journey.proof.address.startswith("/")
        )
        turns = self.turns.addresses if self.turns is not None else ()
        return (
            *((f"system.{path}", where) for path, where in self.system.addresses),
            *elsewhere,
            *counts,
            *((f"candidates.{path}", where) for path, where in turns),
        )

    def turn(self, candidate: Candidate, value: Value | None) -> Plan:
        """The plan of one turn of a candidate, with a value of the second factor: a plan like any other."""
        base = candidate.address or (value.address if value is not None else None) or self.system.base_url
        components = tuple(
            one.model_copy(
                update={
                    "version": candidate.versions.get(one.name, one.version),
                    "instance_type": candidate.types.get(one.name, one.instance_type),
                    "instances": candidate.instances.get(one.name, one.instances),
                }
            )
            for one in self.system.components
        )
        system = self.system.model_copy(update={"base_url": base, "components": components})
        rows = {feed.name: feed for feed in self.feeds}
        instead = value.feeds if value is not None else {}
        feeds = tuple(
            rows[instead[feed.name]].model_copy(update={"name": feed.name}) if feed.name in instead else feed
            for feed in self.feeds
        )
        own = self.model_copy(update={"system": system, "feeds": feeds, "candidates": None, "scaling": None})
        return grown(own, self.scaling.times(self.scaling.value(candidate.name)) if self.scaling is not None else 1.0)
