"""What virtual users do from start to end: journeys of steps, their session, and the proof of their work."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from typing import Literal

from pydantic import Field, field_validator, model_validator

from stonekettle.plan.credentials import Credentials
from stonekettle.plan.parts import Name, Part
from stonekettle.plan.problems import Problem
from stonekettle.plan.step import Pattern, Step, checked_path, fault, impossible, is_address
from stonekettle.plan.template import variables

MAX_STEPS = 1_000
BUILT_IN = ("user_number", "iteration", "random_number", "timestamp", "uuid")
"""Values every request can use without keeping or feeding them."""


class Session(Part):
    """What a user carries along: ``cookies`` for a ``journey`` or for its ``life``; ``connections``
    likewise; whether files that accompany steps are fetched once (``cache``) or each time."""

    cookies: Literal["journey", "life"] = "life"
    connections: Literal["journey", "life"] = "life"
    cache: bool = True
    user_agent: str | None = Field(default=None, max_length=500)
    credentials: Credentials | None = None


class Proof(Part):
    """A count on the server that grows by ``per_journey`` with each journey completed: a counter that
    the meters of ``component`` read, or a number that an ``address`` answers (its whole text, a place
    in JSON, or what a regular expression finds), asked before load begins and after it has ended."""

    component: Name | None = None
    metric: Name | None = None
    address: str | None = Field(default=None, max_length=2_000)
    json_path: str | None = Field(default=None, alias="json")
    regex: Pattern | None = None
    per_journey: float = Field(default=1.0, gt=0)

    _place = field_validator("json_path")(checked_path)

    @field_validator("address")
    @classmethod
    def _can_be_asked(cls, value: str | None) -> str | None:
        if value is not None and not is_address(value):
            mend = "Write its path: '/counts/tickets'; on another host the whole address."
            raise fault("address", "{text} is not an address.", mend, text=repr(value))
        return value

    @model_validator(mode="after")
    def _one_count(self) -> Proof:
        metered = self.component is not None and self.metric is not None
        if metered == (self.address is not None) or (self.component is None) != (self.metric is None):
            mend = "Name a component and its counter, or an address that answers a number."
            raise fault("proof", "a proof needs either a counter or an address.", mend)
        if (self.json_path is not None) + (self.regex is not None) > (self.address is not None):
            raise fault("proof", "a place in the answer belongs to an address.", "Keep one of json and regex.")
        return self

    @property
    def subject(self) -> str:
        """What is counted, in words."""
        if self.address is not None:
            return f"the count at {self.address}"
        return f"{self.component} {(self.metric or '').removesuffix('_total')}"


class Journey(Part):
    """What a virtual user does from start to end; ``weight`` is its share among journeys begun.

    ``secrets_for`` is the origin (scheme, host and port) its own secrets were given for. ``sample``
    gives values that no feed gives, the same ones to every user. ``proof`` names a count on
    the server to compare with the journeys completed.
    """

    name: Name
    weight: float = Field(default=1.0, gt=0)
    secrets_for: str | None = Field(default=None, max_length=500)
    session: Session = Session()
    sample: dict[str, str] = Field(default_factory=dict)
    proof: Proof | None = None
    steps: tuple[Step, ...] = Field(min_length=1, max_length=MAX_STEPS)

    @model_validator(mode="after")
    def _does_something(self) -> Journey:
        if not any(step.enabled for step in self.steps):
            raise fault("steps", "every step of the journey is disabled.", "Enable at least one.")
        return self

    @property
    def active(self) -> tuple[Step, ...]:
        """The steps users take."""
        return tuple(step for step in self.steps if step.enabled)


class JourneyDraft(Part):
    """A journey by itself, while it is written: with the name of the system it is tried against, the
    origin its secrets were given for, the names of the feeds it brings along, and perhaps without steps yet."""

    name: Name
    system: str = Field(default="", max_length=80)
    feeds: tuple[Name, ...] = Field(default=(), max_length=20)
    notes: str = Field(default="", max_length=5_000)
    secrets_for: str | None = Field(default=None, max_length=500)
    session: Session = Session()
    sample: dict[str, str] = Field(default_factory=dict)
    proof: Proof | None = None
    steps: tuple[Step, ...] = Field(default=(), max_length=MAX_STEPS)

    def missing(self, fed: Collection[str] = ()) -> tuple[str, ...]:
        """Variables that neither the columns ``fed``, a response before them nor the sample gives."""
        known = {*BUILT_IN, *self.sample, *fed}
        found: dict[str, None] = {}
        for step in self.steps:
            if step.enabled:
                found |= {name: None for text in step.texts for name in variables(text) if name not in known}
                known |= {keep.name for keep in step.keep}
        return tuple(found)


def impossible_patterns(steps: Iterable[Step], proof: Proof | None, prefix: str = "") -> Iterator[Problem]:
    """Every regular expression of a journey that cannot be used; ``prefix`` leads to it in a larger document."""
    for j, step in enumerate(steps):
        yield from step.impossible(f"{prefix}steps[{j}]")
    if proof is not None:
        yield from impossible(f"{prefix}proof.regex", proof.regex)
