"""What ends a run before its load does: rules on errors and response times, and the budget."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from stonekettle.core.run_data import Cell
from stonekettle.engine.script import cells_of
from stonekettle.engine.signals import Heard, Lost, Told, Verb, Wish
from stonekettle.engine.strategies import PLAN, Strategy
from stonekettle.plan.models import Plan, StopRule
from stonekettle.plan.quantities import format_duration


def strategies_of(plan: Plan) -> list[Strategy]:
    """What may end a run of the plan."""
    cells = cells_of(plan)
    found: list[Strategy] = [_Watched(rule, _cells(rule, cells)) for rule in plan.stop_when]
    if plan.limit_s is not None:
        found.append(_Spent(plan.limit_s, plan.budget_words))
    return found


def _cells(rule: StopRule, cells: Sequence[Cell]) -> tuple[int, ...]:
    return tuple(number for number, cell in enumerate(cells) if rule.step in (None, cell.step))


@dataclass
class _Second:
    """What all generators told of a second."""

    completed: int = 0
    errors: int = 0
    response_sum_s: float = 0.0
    in_flight: float = 0.0


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
        own.in_flight += float(told.get("in_flight", 0.0))
        for old in [s for s in self._seconds if s < second - 2 * self._length]:
            del self._seconds[old]

    @property
    def _length(self) -> int:
        return max(1, round(self.rule.during))

    def _broken(self, last: int) -> str | None:
        """Why the rule ends the run, told by the seconds up to ``last``; None where it does not."""
        wanted = range(last - self._length + 1, last + 1)
        window = [self._seconds[second] for second in wanted if second in self._seconds]
        if wanted.start < 0 or len(window) < self._length:
            return None
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
