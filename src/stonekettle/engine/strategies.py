"""What feeds the lead: each strategy tells what it would order next, or wishes for something as people do.

The profile is the first of them; its clock stands while the load is held or paused.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Ordered
from stonekettle.core.run_data import RunData
from stonekettle.engine.signals import Heard, Lost, Told, Verb, Wish

Targets = Mapping[str, Target]
PLAN = "the plan"
"""Who wants what stands in the plan."""
SEARCH = "the search"
RAN_OUT = "The load profile ran to its end."


class Strategy(Protocol):
    """Hears what the lead hears, and wishes for something as people do."""

    def advise(self, at_s: float, heard: Sequence[Heard]) -> Iterable[Wish]: ...


@dataclass(frozen=True)
class Turn:
    """From ``at_s`` on the load has these targets, as ``who`` wants for the reason ``why``; ``over`` once nothing comes
    after."""

    at_s: float
    targets: Targets
    over: bool = False
    who: str = PLAN
    why: str = ""


class Guide(Protocol):
    """Where the load goes by itself, on a clock that can stand while people lead it."""

    def stop(self, at_s: float) -> None: ...

    def go_on(self, at_s: float) -> Targets: ...

    def turns(self, until_s: float) -> Iterable[Turn]: ...

    def heed(self, run: RunData, ordered: Ordered) -> None:
        """What was measured so far, and what had been ordered."""


class Profile:
    """The planned orders on a clock that can stand."""

    def __init__(self, planned: Ordered) -> None:
        self._planned = planned
        self._given = 0
        self._late_s = 0.0
        self._lingers_at = 0.0
        self._stood_at: float | None = None

    def standing(self) -> dict[str, float | None]:
        """Where its clock stands, as plain data."""
        return {
            "given": self._given,
            "late_s": self._late_s,
            "lingers_at": self._lingers_at,
            "stood_at": self._stood_at,
        }

    @classmethod
    def at(cls, planned: Ordered, standing: Mapping[str, Any]) -> Profile:
        """The inverse of :meth:`standing`."""
        found = cls(planned)
        found._given, found._late_s = int(standing["given"]), standing["late_s"]
        found._lingers_at, found._stood_at = standing["lingers_at"], standing["stood_at"]
        return found

    def _reached(self, at_s: float) -> float:
        """What its clock says at ``at_s``: it does not go back for a level that was made longer."""
        return self._stood_at if self._stood_at is not None else max(at_s - self._late_s, self._lingers_at)

    def stop(self, at_s: float) -> None:
        """Its clock stands from ``at_s`` on."""
        self._stood_at = self._reached(at_s)

    def leap(self, at_s: float) -> Turn:
        """From ``at_s`` on what would have come next."""
        reached = self._reached(at_s)
        last = len(self._planned.orders) - 1
        place = next((i for i, order in enumerate(self._planned.orders) if order.at_s > reached), last)
        order = self._planned.orders[place]
        self._late_s, self._given, self._stood_at = at_s - order.at_s, place + 1, None
        return Turn(at_s, order.targets, order.last)

    def linger(self, at_s: float, by_s: float) -> None:
        """What comes next comes so much later."""
        self._lingers_at = self._reached(at_s)
        self._late_s += by_s

    def go_on(self, at_s: float) -> Targets:
        """Its clock goes again; what it says from ``at_s`` on."""
        reached = self._reached(at_s)
        self._late_s, self._stood_at = at_s - reached, None
        return self._from(reached)

    def heed(self, run: RunData, ordered: Ordered) -> None:
        """It goes by the clock alone."""

    def turns(self, until_s: float) -> Iterable[Turn]:
        """What it turns to before ``until_s``, each told once."""
        orders = self._planned.orders
        while self._stood_at is None and self._given < len(orders):
            order = orders[self._given]
            if order.at_s + self._late_s > until_s:
                return
            self._given += 1
            yield Turn(order.at_s + self._late_s, order.targets, order.last, why=RAN_OUT if order.last else "")

    def _from(self, t: float) -> Targets:
        order = self._planned.in_effect(t)
        if order is None:
            return {}
        return {name: target.later(t - order.at_s) for name, target in order.targets.items()}


class EverybodyDone:
    """Ends the load once all people have done what they came for, in a plan in which they do so many journeys."""

    def __init__(self, planned: Ordered, each: Mapping[str, int | None]) -> None:
        self._names = list(each)
        self._wanted = {
            name: max((order.targets[name].peak for order in planned.orders if name in order.targets), default=0)
            for name in each
        }
        self._possible = all(each.values()) and not planned.arrivals
        self._told: dict[str, Mapping[str, Any]] = {}

    def advise(self, at_s: float, heard: Sequence[Heard]) -> Iterable[Wish]:
        for item in heard:
            if isinstance(item, Told):
                self._told[item.generator] = item.second.get("told", {})
            elif isinstance(item, Lost):
                self._told.pop(item.generator, None)  # others begin its people's visits anew
        told = list(self._told.values())
        if not self._possible or not told or any(one.get("here", 1) for one in told):
            return
        done = [sum(counts) for counts in zip(*(one.get("done", ()) for one in told), strict=False)]
        if done and all(n >= round(self._wanted[name]) for name, n in zip(self._names, done, strict=False)):
            self._possible = False
            yield Wish(Verb.LET_GO, PLAN, "Everybody has done all their journeys")
