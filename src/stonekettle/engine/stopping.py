"""What ends a run before its load does: rules on errors, response times, resources and blur, and the budget."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from stonekettle.core.run_data import Cell, ResourceSeries
from stonekettle.core.types import FloatArray
from stonekettle.engine.script import cells_of
from stonekettle.engine.signals import Heard, Lost, Metered, Told, Verb, Wish
from stonekettle.engine.strategies import PLAN, Strategy
from stonekettle.plan.models import Plan, StopRule
from stonekettle.plan.quantities import format_duration


def strategies_of(plan: Plan) -> list[Strategy]:
    """What may end a run of the plan."""
    cells = cells_of(plan)
    found: list[Strategy] = [
        _Watched(rule, _cells(rule, cells)) if rule.resource is None else _Busy(rule) for rule in plan.stop_when
    ]
    if plan.limit_s is not None:
        found.append(_Spent(plan.limit_s, plan.budget_words))
    return found


LATE_S = 5
"""Meters are late by so much at most: a resource may be unknown in the last seconds."""
LEAST_KNOWN = 0.5
"""A rule on a resource judges where it was known in this share of the time."""


@dataclass(frozen=True)
class Asked:
    """The resources that stop rules ask for, by key, and how many seconds back."""

    resources: tuple[str, ...]
    seconds: int

    @staticmethod
    def by(plan: Plan) -> Asked | None:
        """None where no rule asks for any."""
        rules = [rule for rule in plan.stop_when if rule.resource is not None]
        if not rules:
            return None
        keys = tuple(dict.fromkeys(rule.resource for rule in rules if rule.resource is not None))
        return Asked(keys, max(_length(rule) for rule in rules) + LATE_S)

    def of(self, series: Iterable[ResourceSeries]) -> Metered:
        """What to tell of a run's resources so far."""
        return Metered({one.key: one.utilisation[-self.seconds :] for one in series if one.key in self.resources})


def _length(rule: StopRule) -> int:
    """Over so many seconds it looks."""
    return max(1, round(rule.during))


def _cells(rule: StopRule, cells: Sequence[Cell]) -> tuple[int, ...]:
    return tuple(number for number, cell in enumerate(cells) if rule.step in (None, cell.step))


@dataclass
class _Second:
    """What all generators told of a second."""

    completed: int = 0
    errors: int = 0
    response_sum_s: float = 0.0
    in_flight: float = 0.0
    users: float = 0.0
    unseen: float = 0.0
    """Of the users: those who waited for the generator, not for the system."""


@dataclass
class _Watched:
    """Ends the load once a rule has held over as many seconds as it says, taken together. Only seconds count that every
    generator there has told."""

    rule: StopRule
    cells: Sequence[int]
    _seconds: dict[int, _Second] = field(default_factory=dict)
    _told_to: dict[str, int] = field(default_factory=dict)
    _looked_to: int = -1
    _done: bool = False

    def advise(self, at_s: float, heard: Sequence[Heard]) -> Iterable[Wish]:
        for item in heard:
            if isinstance(item, Told) and "completed" in item.second:
                self._add(item.generator, item.second)
            elif isinstance(item, Lost):
                self._told_to.pop(item.generator, None)
        last = min(self._told_to.values(), default=-1)
        if self._done or last <= self._looked_to:
            return
        self._looked_to = last
        why = self._broken(last)
        if why is not None:
            self._done = True
            yield Wish(Verb.STOP, PLAN, why)

    def _add(self, generator: str, told: Mapping[str, Any]) -> None:
        second = int(told["second"])
        self._told_to[generator] = max(second, self._told_to.get(generator, -1))
        own = self._seconds.setdefault(second, _Second())
        for cell in self.cells:
            if cell < len(told["completed"]):
                own.completed += told["completed"][cell]
                own.errors += told["errors"][cell]
                own.response_sum_s += told["response_sum_s"][cell]
        own.in_flight += float(told.get("in_flight") or 0.0)
        own.users += float(told.get("users") or 0.0)
        own.unseen += float(told.get("overdue") or 0.0) + float(told.get("blind") or 0.0)
        for old in [s for s in self._seconds if s < second - 2 * _length(self.rule)]:
            del self._seconds[old]

    def _broken(self, last: int) -> str | None:
        """Why the rule ends the run, told by the seconds up to ``last``; None where it does not."""
        length = _length(self.rule)
        wanted = range(last - length + 1, last + 1)
        window = [self._seconds[second] for second in wanted if second in self._seconds]
        if wanted.start < 0 or len(window) < length:
            return None
        if self.rule.blur is not None:
            return self._blurred(self.rule.blur, window)
        completed = sum(s.completed for s in window)
        errors = sum(s.errors for s in window)
        subject, long = self.rule.step or "all steps", format_duration(self.rule.during)
        if self.rule.errors is not None:
            ratio = errors / completed if completed else 0.0
            if ratio <= self.rule.errors:
                return None
            limit = f"{self.rule.errors * 100:g} %"
            return f"{ratio * 100:.3g} % of {subject} failed over {long}, and more than {limit} end the run"
        assert self.rule.response is not None  # one of both, by the plan
        limit = format_duration(self.rule.response)
        good = completed - errors
        if not good:
            waited = self.rule.step is None and all(s.in_flight >= 0.5 for s in window) and not completed
            return f"nobody was answered for {long}, and over {limit} end the run" if waited else None
        mean_s = sum(s.response_sum_s for s in window) / good
        if mean_s <= self.rule.response:
            return None
        return f"{subject} took {mean_s:.3g} s on the average over {long}, and over {limit} end the run"

    def _blurred(self, limit: float, window: Sequence[_Second]) -> str | None:
        users = sum(s.users for s in window)
        share = sum(s.unseen for s in window) / users if users else 0.0
        if share <= limit:
            return None
        long = format_duration(self.rule.during)
        return f"the generators were late with {share * 100:.3g} % of the users over {long}, and more than " + (
            f"{limit * 100:g} % end the run"
        )


@dataclass
class _Busy:
    """Ends the load once a resource has been busier than its limit, on the average over as many seconds as it says."""

    rule: StopRule
    _done: bool = False

    def advise(self, at_s: float, heard: Sequence[Heard]) -> Iterable[Wish]:
        told = [item.utilisation for item in heard if isinstance(item, Metered)]
        series = told[-1].get(self.rule.resource or "") if told else None
        busy = self._mean(series) if series is not None else None
        if self._done or busy is None or self.rule.utilisation is None or busy <= self.rule.utilisation:
            return
        self._done = True
        long, limit = format_duration(self.rule.during), self.rule.utilisation * 100
        yield Wish(
            Verb.STOP,
            PLAN,
            f"{self.rule.resource} was {busy * 100:.3g} % busy over {long}, and more than {limit:g} % ends the run",
        )

    def _mean(self, utilisation: FloatArray) -> float | None:
        """Over its time up to the last second that is known; None where that is too short, or known too little."""
        known = np.flatnonzero(np.isfinite(utilisation))
        end = int(known[-1]) + 1 if known.size else 0
        window = utilisation[max(0, end - _length(self.rule)) : end]
        there = window[np.isfinite(window)]
        if window.size < _length(self.rule) or there.size < LEAST_KNOWN * window.size:
            return None
        return float(there.mean())


@dataclass
class _Spent:
    """Ends the load when what it may cost is spent."""

    limit_s: float
    words: str
    _done: bool = False

    def advise(self, at_s: float, heard: Sequence[Heard]) -> Iterable[Wish]:
        if not self._done and at_s >= self.limit_s:
            self._done = True
            yield Wish(Verb.STOP, PLAN, self.words)
