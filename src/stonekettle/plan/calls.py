"""Calls that change a system: what is sent, what has to be answered, and how it is told that the change is done."""

from __future__ import annotations

import re
from collections.abc import Mapping
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


class Ready(Part):
    """An address that is asked ``every`` so often until it answers with the status ``expect``; a path is on the
    candidate's own address."""

    ask: Annotated[str, Field(max_length=2_000)]
    expect: int = Field(default=200, ge=100, le=599)
    every: Duration = Field(default=1.0, ge=0.25, le=60)
    within: Duration = Field(default=120.0, gt=0, le=3_600)

    @field_validator("ask")
    @classmethod
    def _place(cls, value: str) -> str:
        return value if value.startswith("/") else address(value)


_ASKED = re.compile(r"{{\s*([a-z][a-z0-9_]{0,39})\s*}}")
_GIVEN = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,79}")
"""What may be put into an address and a body alike without changing what either means."""


def _as_text(value: object) -> object:
    """A number as it is written, since calls are text."""
    return str(value) if isinstance(value, int) and not isinstance(value, bool) else value


class Due(Part):
    """A change of the system that a run makes by itself, so long after its load began."""

    at: Duration = Field(ge=0)
    change: Name
    values: dict[Name, Annotated[str, BeforeValidator(_as_text), Field(max_length=80)]] = Field(
        default_factory=dict, max_length=20
    )


class Change(Part):
    """A way to change a system while it is loaded: a call at its operations, in which ``{{component}}`` and other words
    between braces stand for what is asked each time, and an address there that tells when it is done: one whose answer
    tells numbers called ``ready`` and ``instances`` is followed by them."""

    name: Name
    does: Call
    ready: Ready | None = None

    @model_validator(mode="after")
    def _at_operations(self) -> Change:
        for where in (self.does.address, *([self.ready.ask] if self.ready else [])):
            if not where.startswith("/"):
                raise PydanticCustomError(
                    "at_operations",
                    "{text} is not a path.",
                    {"text": repr(where[:80]), "mend": "Write a path at the address of the system's operations."},
                )
        unasked = [name for name in _ASKED.findall(self.ready.ask if self.ready else "") if name not in self.asks]
        if unasked:
            raise PydanticCustomError(
                "unasked",
                "{text} is asked by 'ready' alone.",
                {"text": repr(unasked[0]), "mend": "Use it in the call too, or leave it out."},
            )
        return self

    @property
    def asks(self) -> tuple[str, ...]:
        """What has to be said each time, in the order in which it is first named."""
        return tuple(dict.fromkeys(_ASKED.findall(self.does.call + "\n" + self.does.body)))

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

        def said(text: str) -> str:
            return _ASKED.sub(lambda match: values[match[1]], text)

        call = self.does.model_copy(update={"call": said(self.does.call), "body": said(self.does.body)})
        ready = self.ready.model_copy(update={"ask": said(self.ready.ask)}) if self.ready else None
        return call, ready
