"""Scaling experiments: one thing of a system at several values, and the whole load at each of them."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.plan.calls import Call, Change, Ready, as_text
from stonekettle.plan.candidates import Candidate, Candidates
from stonekettle.plan.checking import did_you_mean
from stonekettle.plan.parts import Name, Part
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.system import InstanceType, System

Said = Annotated[str, BeforeValidator(as_text), Field(min_length=1, max_length=80)]
Varied = Literal["instances", "size", "setting", "data"]
COMPONENT = "component"


class ScaledValue(Part):
    """What is put into the call, and how much that is: instances, processors of an instance, or the setting's own
    number (None: it is a word). Of another size, what an instance is then."""

    value: Said
    amount: float | None = Field(default=None, gt=0, le=1e9, allow_inf_nan=False)
    type: InstanceType | None = None

    @model_validator(mode="before")
    @classmethod
    def _short_form(cls, value: object) -> object:
        return value if isinstance(value, dict) else {"value": value}

    @property
    def much(self) -> float | None:
        """How much it is, where that is a number."""
        if self.amount is not None:
            return self.amount
        if self.type is not None and self.type.vcpus is not None:
            return self.type.vcpus
        try:
            told = float(self.value)
        except ValueError:
            return None
        return told if 0 < told < math.inf else None


class Scaling(Part):
    """The load is made at each of the ``values``, ``rounds`` times, each round in an order drawn anew. A ``change`` of
    the system's operations sets them: the word that is neither ``component`` nor among ``also`` takes the value. In the
    end ``back`` is set. Where ``load_grows``, the load of each value is as many times as high as the value itself."""

    of: Varied = "instances"
    component: Name | None = None
    change: Name
    also: dict[Name, Said] = Field(default_factory=dict, max_length=20)
    values: tuple[ScaledValue, ...] = Field(min_length=2, max_length=12)
    rounds: int = Field(default=2, ge=1, le=10)
    back: Said | None = None
    load_grows: bool = True

    @model_validator(mode="after")
    def _whole(self) -> Scaling:
        if self.component is None and self.of in ("instances", "size"):
            raise PydanticCustomError(
                "scaled_component",
                "{what} of what?",
                {"what": self.of.capitalize(), "mend": "Name the component, for example 'component: planner'."},
            )
        for place, one in enumerate(self.values):
            if one.value in [other.value for other in self.values[:place]]:
                raise PydanticCustomError(
                    "scaled_twice", "{value} is there twice.", {"value": repr(one.value), "mend": "Leave one out."}
                )
            if self.of == "instances" and (one.much is None or one.much != int(one.much)):
                raise PydanticCustomError(
                    "scaled_count",
                    "{value} is no number of instances.",
                    {"value": repr(one.value), "mend": "Write whole numbers, for example [1, 2, 4]."},
                )
        return self

    def words(self, value: ScaledValue) -> str:
        """What a value is called: "2 × planner", "planner on harbour-8"."""
        if self.of == "instances":
            return f"{value.value} × {self.component}"
        if self.of == "size":
            return f"{self.component} on {value.value}"
        return f"{self.component}: {value.value}" if self.component else value.value

    @property
    def summary(self) -> str:
        """What is varied, at which values, how often."""
        what = f"{self.of} of {self.component}" if self.component else self.of
        values = ", ".join(value.value for value in self.values)
        return f"{what} at {values}, {self.rounds} times"

    def back_to(self, system: System) -> str:
        """What is set in the end: as the system is described, where that tells."""
        if self.back is not None:
            return self.back
        own = next((one for one in system.components if one.name == self.component), None)
        if own is not None and self.of == "instances":
            return str(own.instances)
        if own is not None and self.of == "size" and own.instance_type is not None and own.instance_type.name:
            return own.instance_type.name
        return self.values[0].value

    def value(self, words: str) -> ScaledValue:
        """The value that is called so."""
        return next(one for one in self.values if self.words(one) == words)

    def times(self, value: ScaledValue) -> float:
        """How many times as high the load is as with the least."""
        least = min((much for one in self.values if (much := one.much) is not None), default=None)
        if not self.load_grows or self.of not in ("instances", "size") or least is None or value.much is None:
            return 1.0
        return value.much / least

    def turns(self, system: System) -> Candidates:
        """Each value as a candidate whose turn it is. Raises :class:`PlanError` where the call cannot be made."""
        every = [self._candidate(system, value) for value in self.values]
        return Candidates.model_construct(blocks=self.rounds, each=tuple(every), factor=None, matters=0.05)

    def _candidate(self, system: System, value: ScaledValue) -> Candidate:
        call, ready = self.filled(system, value.value)
        back, _ = self.filled(system, self.back_to(system))
        name = self.component or ""
        return Candidate(
            name=self.words(value),
            instances={name: int(value.value)} if self.of == "instances" else {},
            types={name: value.type} if value.type is not None and self.of == "size" else {},
            begin=(call,),
            ready=ready,
            end=(back,),
        )

    def filled(self, system: System, value: str) -> tuple[Call, Ready | None]:
        """The call that sets a value, and what tells that it is done. Raises :class:`PlanError`."""
        assert system.operations is not None  # by inconsistencies
        change = next(one for one in system.operations.changes if one.name == self.change)
        call, ready = change.filled({**self.given(change), self.word(change): value})
        if ready is not None:
            ready = ready.model_copy(update={"ask": system.operations.address + ready.ask})
        return call, ready

    def given(self, change: Change) -> dict[str, str]:
        """What the change asks besides the value."""
        known = {**({COMPONENT: self.component} if self.component else {}), **self.also}
        return {name: known[name] for name in change.asks if name in known}

    def word(self, change: Change) -> str:
        """The word that takes the value. Raises :class:`PlanError` where it is not one alone."""
        free = [name for name in change.asks if name not in self.given(change)]
        if len(free) == 1:
            return free[0]
        if not free:
            mend = "Take a change that asks for it, like 'Set instances'."
            raise PlanError([Problem("scaling.change", f"{change.name!r} asks for no value.", mend)])
        message = f"{change.name!r} asks for {' and '.join(free)}, and one of them can be the value."
        raise PlanError([Problem("scaling.also", message, "Say the others under 'also'.")])


def inconsistencies(scaling: Scaling, system: System) -> Iterable[Problem]:
    """What contradicts itself or the system that is scaled."""
    names = [component.name for component in system.components]
    if scaling.component is not None and scaling.component not in names:
        mend = did_you_mean(scaling.component, names, "Use the name of a component of the system.")
        yield Problem("scaling.component", f"there is no component named {scaling.component!r}.", mend)
    changes = {change.name: change for change in system.operations.changes} if system.operations else {}
    change = changes.get(scaling.change)
    if change is None:
        mend = did_you_mean(scaling.change, changes, "Describe it under Systems, with the system's operations.")
        yield Problem("scaling.change", f"{system.name!r} knows no change called {scaling.change!r}.", mend)
        return
    for name in sorted(scaling.also.keys() - set(change.asks)):
        yield Problem(f"scaling.also.{name}", f"{change.name!r} asks for no {name!r}.", "Leave it out.")
    yield from _faults(scaling, system)


def _faults(scaling: Scaling, system: System) -> Iterator[Problem]:
    told = [(f"scaling.values[{k}]", one.value) for k, one in enumerate(scaling.values)]
    for path, value in (*told, ("scaling.back", scaling.back_to(system))):
        try:
            scaling.filled(system, value)
        except PlanError as error:
            for one in error.problems:
                own = one.path if one.path.startswith("scaling") else path
                yield Problem(own, one.message, one.mend)
            return
