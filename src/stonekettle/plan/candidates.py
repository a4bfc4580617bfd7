"""Candidates: variants of a system that take turns under the same load, and how each is brought under it."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Iterator
from random import Random
from typing import Annotated

from pydantic import Discriminator, Field, Tag, field_validator, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.plan.calls import Call, Ready
from stonekettle.plan.parts import CHOICE, Name, Part, address
from stonekettle.plan.problems import Problem
from stonekettle.plan.quantities import Duration, Share
from stonekettle.plan.secrecy import origin_of
from stonekettle.plan.segments import one_of
from stonekettle.plan.system import MAX_INSTANCES, InstanceType, Operations, System


class Command(Part):
    """A command on the planner's own machine, run without a shell; ``./kettle run`` does these, the web application
    none."""

    command: str = Field(min_length=1, max_length=2_000)
    within: Duration = Field(default=300.0, gt=0, le=3_600)

    @field_validator("command")
    @classmethod
    def _words(cls, value: str) -> str:
        try:
            words = shlex.split(value)
        except ValueError:
            words = []
        if not words:
            raise PydanticCustomError(
                "command", "{text} is no command.", {"text": repr(value), "mend": "Close its quotes."}
            )
        return value

    @property
    def words(self) -> str:
        return self.command


Action = Annotated[
    Annotated[Call, Tag(f"{CHOICE}call")] | Annotated[Command, Tag(f"{CHOICE}command")],
    Discriminator(
        one_of("call", "command"),
        custom_error_type="action",
        custom_error_message="an action needs exactly one of call and command.",
        custom_error_context={"mend": "Write 'call: PUT https://…', or 'command: ./deploy june'."},
    ),
]
Actions = Annotated[tuple[Action, ...], Field(max_length=20)]


class _Brought(Part):
    """What is brought under load by actions: ``begin`` before a turn, until it is ``ready``, and ``end`` after it."""

    name: Name
    address: str | None = None
    begin: Actions = ()
    ready: Ready | None = None
    end: Actions = ()

    @field_validator("address")
    @classmethod
    def _is_address(cls, value: str | None) -> str | None:
        return None if value is None else address(value).rstrip("/")


class Candidate(_Brought):
    """A variant of the system: what it is (versions, instance types and numbers of components, a setting in words),
    where it is reached if not at the system's own address, and how it is brought under load."""

    versions: dict[Name, Annotated[str, Field(max_length=80)]] = Field(default_factory=dict, max_length=200)
    types: dict[Name, InstanceType] = Field(default_factory=dict, max_length=200)
    instances: dict[Name, Annotated[int, Field(ge=1, le=MAX_INSTANCES)]] = Field(default_factory=dict, max_length=200)
    setting: str = Field(default="", max_length=500)


class Value(_Brought):
    """A value of the second factor. ``feeds`` are other rows for feeds of the plan, by their names."""

    feeds: dict[Name, Name] = Field(default_factory=dict, max_length=100)


class Factor(Part):
    """What is varied besides: a protocol, the size of a data set."""

    name: Name = "Setting"
    values: tuple[Value, ...] = Field(min_length=2, max_length=6)


class Candidates(Part):
    """In each of so many ``blocks`` every candidate has a turn, with each value of the second factor, in an order drawn
    anew: what drifts meanwhile is the same for all. Differences smaller than ``matters`` are none."""

    blocks: int = Field(default=8, ge=2, le=30)
    each: tuple[Candidate, ...] = Field(min_length=2, max_length=6)
    factor: Factor | None = None
    matters: Share = Field(default=0.05, ge=0.01, le=0.5)

    @model_validator(mode="after")
    def _bounded(self) -> Candidates:
        if self.turns > 200:
            raise PydanticCustomError(
                "turns",
                "{count} turns are more than 200.",
                {"count": self.turns, "mend": "Take fewer blocks, candidates or values."},
            )
        return self

    @property
    def values(self) -> tuple[Value | None, ...]:
        return self.factor.values if self.factor is not None else (None,)

    @property
    def turns(self) -> int:
        return self.blocks * len(self.each) * len(self.values)

    def order(self, chance: Random) -> Iterator[tuple[int, Candidate, Value | None]]:
        """All turns: the block's number (from 1), the candidate, the value; each block in an order of its own."""
        every = [(one, value) for one in self.each for value in self.values]
        for block in range(1, self.blocks + 1):
            for candidate, value in chance.sample(every, len(every)):
                yield block, candidate, value

    @property
    def places(self) -> Iterable[tuple[str, _Brought]]:
        """Candidates and values with their paths below ``candidates``."""
        yield from ((f"each[{i}]", one) for i, one in enumerate(self.each))
        if self.factor is not None:
            yield from ((f"factor.values[{i}]", one) for i, one in enumerate(self.factor.values))

    @property
    def addresses(self) -> Iterable[tuple[str, str]]:
        """Every address that is asked or loaded, with its path below ``candidates``."""
        for path, one in self.places:
            if one.address is not None:
                yield f"{path}.address", one.address
            for when, actions in (("begin", one.begin), ("end", one.end)):
                for k, action in enumerate(actions):
                    if isinstance(action, Call) and not action.address.startswith("/"):
                        yield f"{path}.{when}[{k}].call", action.address
            if one.ready is not None and not one.ready.ask.startswith("/"):
                yield f"{path}.ready.ask", one.ready.ask

    @property
    def commands(self) -> Iterable[str]:
        """The paths of actions that are commands."""
        for path, one in self.places:
            for when, actions in (("begin", one.begin), ("end", one.end)):
                yield from (f"{path}.{when}[{k}]" for k, a in enumerate(actions) if isinstance(a, Command))


def inconsistencies(candidates: Candidates, system: System, feeds: Iterable[str]) -> Iterable[Problem]:
    """What contradicts itself, the system that it varies, or the plan's feeds."""
    known, rows = {component.name for component in system.components}, set(feeds)
    for where, names in (
        ("candidates.each", [one.name for one in candidates.each]),
        ("candidates.factor.values", [one.name for one in candidates.values if one is not None]),
    ):
        for place, name in enumerate(names):
            if name in names[:place]:
                yield Problem(f"{where}[{place}].name", f"{name!r} is there twice.", "Give each a name of its own.")
    for i, one in enumerate(candidates.each):
        for kind, named in (("versions", one.versions), ("types", one.types), ("instances", one.instances)):
            for name in sorted(named.keys() - known):
                yield Problem(
                    f"candidates.each[{i}].{kind}",
                    f"there is no component named {name!r}.",
                    f"The system has {', '.join(sorted(known)) or 'none'}.",
                )
    for i, value in enumerate(candidates.values):
        for own, other in (value.feeds if value is not None else {}).items():
            for name in (own, other):
                if name not in rows:
                    path = f"candidates.factor.values[{i}].feeds"
                    mend = "Name a feed of this experiment and the one to take its place."
                    yield Problem(path, f"there is no feed named {name!r}.", mend)
    if any(one.address for one in candidates.each) and any(v is not None and v.address for v in candidates.values):
        message = "both candidates and values have addresses, so it is not known where load shall go."
        yield Problem("candidates.factor", message, "Give addresses to one of the two.")
    for path, part in candidates.places:
        for when, actions in (("begin", part.begin), ("end", part.end)):
            for k, action in enumerate(actions):
                if isinstance(action, Call):
                    yield from _misled(f"candidates.{path}.{when}[{k}]", action, system.operations)
    if not any(_differs(one, candidates.each[0]) for one in candidates.each[1:]):
        mend = "Give one another address, version, type, setting or action."
        yield Problem("candidates.each", "the candidates do not differ in anything.", mend)


def _misled(path: str, call: Call, operations: Operations | None) -> Iterable[Problem]:
    """What is missing for a call at the system's operations."""
    if operations is None and call.address.startswith("/"):
        mend = "Describe the system's operations under Systems, or write the whole address."
        yield Problem(f"{path}.call", f"{call.address!r} is a path, and the system has no operations.", mend)
    elif call.signed and (operations is None or operations.signing_key is None):
        mend = "Give its operations one under Systems, or leave out 'signed'."
        yield Problem(f"{path}.signed", "the system has no signing key.", mend)
    elif call.signed and operations is not None and not call.is_at(operations.address):
        message = f"the signing key is for {origin_of(operations.address)} alone."
        yield Problem(f"{path}.signed", message, "Leave out 'signed', or call there.")


def _differs(one: Candidate, other: Candidate) -> bool:
    return one.model_copy(update={"name": ""}) != other.model_copy(update={"name": ""})
