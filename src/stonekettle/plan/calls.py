"""Calls that change a system: what is sent, what has to be answered, and how it is told that the change is done."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated

from pydantic import BeforeValidator, Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.plan.parts import Name, Part, address
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.quantities import Duration
from stonekettle.plan.secrecy import origin_of

METHODS = ("POST", "PUT", "PATCH", "DELETE", "GET")
MOST_BODY = 20_000
_CALL = re.compile(rf"({'|'.join(METHODS)}) +(\S+)")
_STATUS = re.compile(r"([1-5])(?:xx|([0-9]{2}))")


def _checked_call(value: str) -> str:
    match = _CALL.fullmatch(value.strip())
    if match is None:
        raise PydanticCustomError(
            "call",
            "{text} is not a call.",
            {"text": repr(value), "mend": f"Write a method ({', '.join(METHODS)}) and an address, or a path."},
        )
    if not match[2].startswith("/"):
        address(match[2])
    return f"{match[1]} {match[2]}"


class Call(Part):
    """A request that changes the system: ``PUT https://ops.example/planner/version``; a path is at the address of the
    system's operations. A ``signed`` one carries an HMAC by their signing key. Its answer has to have the status
    ``expect`` (``2xx``: any of those)."""

    call: str
    headers: dict[str, Annotated[str, Field(max_length=2_000)]] = Field(default_factory=dict, max_length=40)
    body: str = Field(default="", max_length=MOST_BODY)
    signed: bool = False
    expect: Annotated[str, Field(pattern=r"^[1-5](xx|[0-9]{2})$")] = "2xx"
    within: Duration = Field(default=30.0, gt=0, le=600)

    _call = field_validator("call")(_checked_call)

    @field_validator("expect", mode="before")
    @classmethod
    def _number(cls, value: object) -> object:
        return str(value) if isinstance(value, int) and not isinstance(value, bool) else value

    @property
    def method(self) -> str:
        return self.call.partition(" ")[0]

    @property
    def address(self) -> str:
        """Where it goes: a whole address, or a path."""
        return self.call.partition(" ")[2]

    def is_at(self, operations: str) -> bool:
        """Whether it goes to the origin of the address of a system's operations."""
        return self.address.startswith("/") or origin_of(self.address) == origin_of(operations)

    @property
    def words(self) -> str:
        return self.call

    def meets(self, status: int) -> bool:
        """Whether an answer of this status is what was expected."""
        match = _STATUS.fullmatch(self.expect)
        assert match is not None  # by its pattern
        return status // 100 == int(match[1]) if match[2] is None else status == int(self.expect)


class _Asking(Part):
    """An address that is asked until it answers with the status ``expect``."""

    ask: Annotated[str, Field(max_length=2_000)]
    expect: int = Field(default=200, ge=100, le=599)

    @field_validator("ask")
    @classmethod
    def _place(cls, value: str) -> str:
        return value if value.startswith("/") else address(value)


class Ready(_Asking):
    """An address that is asked ``every`` so often until it answers with the status ``expect``; a path is on the
    candidate's own address."""

    every: Duration = Field(default=1.0, ge=0.25, le=60)
    within: Duration = Field(default=120.0, gt=0, le=3_600)


MOST_PROBES = 5_000
NUMBER, COUNT = "number", "count"
"""The words that stand for each instance's own number, and for how many are started."""


class Probe(_Asking):
    """An address for each instance that was started, with ``{{number}}`` in it, asked ``every`` so often until it
    answers with the status ``expect``; a path is at the address of the system's operations. Numbers begin at
    ``first``."""

    every: Duration = Field(default=1.0, ge=0.25, le=5)
    within: Duration = Field(default=600.0, gt=0, le=3_600)
    first: int = Field(default=0, ge=0, le=1_000_000)


@dataclass(frozen=True)
class Started:
    """Many at once: the calls that start them, one for all or one for each, and where each is asked after, by its
    number."""

    calls: tuple[Call, ...]
    asked: Mapping[int, str]


_ASKED = re.compile(r"{{\s*([a-z][a-z0-9_]{0,39})\s*}}")
_GIVEN = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,79}")
"""What may be put into an address and a body alike without changing what either means."""


def as_text(value: object) -> object:
    """A number as it is written, since calls are text."""
    return str(value) if isinstance(value, int) and not isinstance(value, bool) else value


class Due(Part):
    """A change of the system that a run makes by itself, so long after its load began."""

    at: Duration = Field(ge=0)
    change: Name
    values: dict[Name, Annotated[str, BeforeValidator(as_text), Field(max_length=80)]] = Field(
        default_factory=dict, max_length=20
    )


class Change(Part):
    """A way to change a system while it is loaded: a call at its operations, in which ``{{component}}`` and other words
    between braces stand for what is asked each time, and an address there that tells when it is done: one whose answer
    tells numbers called ``ready`` and ``instances`` is followed by them."""

    name: Name
    does: Call
    ready: Ready | None = None
    probe: Probe | None = None

    @model_validator(mode="after")
    def _each_is_asked_after(self) -> Change:
        told = self.does.call + self.does.body
        if self.probe is None:
            if NUMBER in _ASKED.findall(told):
                mend = "Add 'probe', which says how each is asked after."
                raise PydanticCustomError("number", "{{number}} is for changes that start many.", {"mend": mend})
            return self
        if NUMBER not in _ASKED.findall(self.probe.ask):
            mend = "Write {{number}} where the number of each instance stands."
            text = repr(self.probe.ask[:80])
            raise PydanticCustomError("probed", "{text} is the same for each.", {"text": text, "mend": mend})
        if COUNT not in self.asks and NUMBER not in _ASKED.findall(told):
            mend = "Write {{count}} into the call, or {{number}} for a call each."
            raise PydanticCustomError("probes", "the call does not say how many are started.", {"mend": mend})
        return self

    @model_validator(mode="after")
    def _at_operations(self) -> Change:
        for where in (self.does.address, *([self.ready.ask] if self.ready else [])):
            if not where.startswith("/"):
                raise PydanticCustomError(
                    "at_operations",
                    "{text} is not a path.",
                    {"text": repr(where[:80]), "mend": "Write a path at the address of the system's operations."},
                )
        later = [("ready", self.ready.ask)] if self.ready else []
        later += [("probe", self.probe.ask)] if self.probe else []
        for where, text in later:
            for name in _ASKED.findall(text):
                if name not in self.asks and not (where == "probe" and name == NUMBER):
                    raise PydanticCustomError(
                        "unasked",
                        "{text} is asked by {where} alone.",
                        {"text": repr(name), "where": repr(where), "mend": "Use it in the call too, or leave it out."},
                    )
        return self

    @property
    def asks(self) -> tuple[str, ...]:
        """What has to be said each time, in the order in which it is first named."""
        named = dict.fromkeys(_ASKED.findall(self.does.call + "\n" + self.does.body))
        # Who starts each by a call of its own says how many.
        return tuple(dict.fromkeys(COUNT if name == NUMBER else name for name in named))

    def words(self, values: Mapping[str, str]) -> str:
        """It with what was said, in the order in which it asks: "Set instances: planner, 3"."""
        said = ", ".join(values.get(name, "") for name in self.asks)
        return f"{self.name}: {said}" if said else self.name

    def filled(self, values: Mapping[str, str]) -> tuple[Call, Ready | None]:
        """The call, and what tells that it is done, with what was said. Raises :class:`PlanError`."""
        problems = []
        for name in self.asks:
            given = values.get(name, "")
            if not _GIVEN.fullmatch(given):
                mend = "Write letters, digits, '.', '_' and '-', at most 80."
                problems.append(Problem(f"values.{name}", f"{given[:80]!r} cannot be put into a call.", mend))
        for name in sorted(values.keys() - set(self.asks)):
            problems.append(Problem(f"values.{name}", f"{self.name!r} asks for no {name!r}.", "Leave it out."))
        if problems:
            raise PlanError(problems)

        call = self._said(values)
        ready = self.ready.model_copy(update={"ask": _with(values, self.ready.ask)}) if self.ready else None
        return call, ready

    def _said(self, values: Mapping[str, str]) -> Call:
        return self.does.model_copy(
            update={"call": _with(values, self.does.call), "body": _with(values, self.does.body)}
        )

    def started(self, values: Mapping[str, str]) -> Started | None:
        """What starts many and where each is asked after; None for a change without probes. Raises
        :class:`PlanError`."""
        call, _ = self.filled(values)
        if self.probe is None:
            return None
        said = values[COUNT]
        if not said.isascii() or not said.isdigit() or not 1 <= int(said) <= MOST_PROBES:
            message = f"{said!r} is no number of instances that can be asked after."
            raise PlanError([Problem(f"values.{COUNT}", message, f"Write a whole number from 1 to {MOST_PROBES}.")])
        numbers = range(self.probe.first, self.probe.first + int(said))
        each = [{**values, NUMBER: str(number)} for number in numbers]
        many = NUMBER in _ASKED.findall(self.does.call + self.does.body)
        return Started(
            tuple(self._said(one) for one in each) if many else (call,),
            {number: _with(one, self.probe.ask) for number, one in zip(numbers, each, strict=True)},
        )


def _with(values: Mapping[str, str], text: str) -> str:
    """A text with what was said in the place of words."""
    return _ASKED.sub(lambda match: values.get(match[1], match[0]), text)
