"""A whole run in virtual time: the real lead and its orders, with a twin in the place of generators and system."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from stonekettle.core.orders import Ordered
from stonekettle.core.types import IntArray
from stonekettle.engine import signals
from stonekettle.engine.lead import Lead
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.script import GroupTerms, cell_numbers
from stonekettle.engine.searching import LOOK_S, Searcher, searcher_of
from stonekettle.engine.stopping import Asked, strategies_of
from stonekettle.plan.models import Plan
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.twin import Twin, TwinGroup, TwinJourney

STEP_S = 0.1
NAME = "twin"
ROOM = 10**9
"""So many users the twin carries: it plays any plan that is sound."""


@dataclass(frozen=True)
class Rehearsed:
    """What came of it: the twin with everything it did, what the lead gave and noted, and the run's end."""

    twin: Twin
    ordered: Ordered
    given: tuple[signals.Give, ...]
    notes: tuple[signals.Note, ...]
    moves: tuple[tuple[float, signals.Move], ...]
    end: signals.End


def rehearse(
    plan: Plan,
    config: PracticeConfig,
    journeys: Sequence[TwinJourney],
    *,
    seed: int = 1,
    tell: Callable[[float], None] = lambda seconds: None,
) -> Rehearsed:
    """Lead a run of ``plan`` against the twin of a system, whose ``journeys`` are the plan's. ``tell`` hears the run's
    seconds as they pass."""
    terms = [GroupTerms.of(plan, group) for group in plan.people]
    guide = searcher_of(plan)
    lead = Lead(
        plan.planned,
        terms,
        wanted=dict.fromkeys(dict.fromkeys(one.region for one in terms), 1),
        feeds={},
        room=ROOM,
        when_lost=plan.generators.when_lost,
        strategies=strategies_of(plan),
        guide=guide,
    )
    arriving = tuple(one.name for one in terms if one.arrives)
    twin = Twin(config, journeys, seed=seed, arrivals=arriving, groups={one.name: _people(one) for one in terms})
    return _Rehearsal(lead, twin, terms, cell_numbers(plan), tell, guide, Asked.by(plan)).play()


def _people(terms: GroupTerms) -> TwinGroup:
    each = terms.each if terms.each is not None else 1 if terms.arrives else None
    at_most = terms.at_most if terms.arrives else None
    return TwinGroup(terms.weights, terms.fixed, each, terms.evenly, at_most, terms.stay_s, terms.round_trip_s)


class _Rehearsal:
    def __init__(
        self,
        lead: Lead,
        twin: Twin,
        terms: Sequence[GroupTerms],
        cells: IntArray,
        tell: Callable[[float], None],
        guide: Searcher | None,
        asked: Asked | None,
    ) -> None:
        self._guide, self._asked, self._looks_at = guide, asked, LOOK_S
        self._lead, self._twin, self._terms, self._cells, self._tell = lead, twin, terms, cells, tell
        self._read = 0
        self._news: list[signals.Heard] = [
            signals.Ready(f"{NAME} {number}", region)
            for number, region in enumerate(dict.fromkeys(one.region for one in terms), start=1)
        ]
        self._names = [item.generator for item in self._news if isinstance(item, signals.Ready)]
        self._zero: float | None = None
        self._end: signals.End | None = None
        self._given: list[signals.Give] = []
        self._notes: list[signals.Note] = []
        self._moves: list[tuple[float, signals.Move]] = []

    def play(self) -> Rehearsed:
        now, told = 0.0, 0
        while self._end is None:
            news, self._news = self._news, []
            for action in self._lead.step(now, news):
                self._heed(action, now)
            now = round(now + STEP_S, 3)
            if self._zero is None or now <= self._zero:
                continue
            self._twin.follow(self._lead.course.orders, now - self._zero)
            if self._twin.now >= told + 1:
                told = int(self._twin.now)
                self._news.append(signals.Told(self._names[0], self._second(told - 1)))
                self._tell(self._twin.now)
            if self._twin.now >= self._looks_at:
                self._looks_at = self._twin.now + LOOK_S
                if self._guide is not None and self._guide.wants_to_hear(self._twin.now, self._lead.course.orders):
                    self._news.append(signals.Measured(self._twin.collected()))
                if self._asked is not None:
                    self._news.append(self._asked.of(self._twin.metered()))
        return Rehearsed(
            self._twin,
            self._lead.course.orders,
            tuple(self._given),
            tuple(self._notes),
            tuple(self._moves),
            self._end,
        )

    def _heed(self, action: signals.Action, now: float) -> None:
        if isinstance(action, signals.Begin):
            self._zero = now + action.in_s
        elif isinstance(action, signals.Give):
            self._given.append(action)
        elif isinstance(action, signals.Note):
            self._notes.append(action)
        elif isinstance(action, signals.End):
            self._end = action
        elif isinstance(action, signals.Move):
            self._moves.append((max(0.0, self._lead.run_time(now)), action))
            if action.state == RunState.DRAINING:
                self._news += [signals.Finished(name) for name in self._names]

    def _second(self, number: int) -> dict[str, object]:
        """What a generator would have told of the second that is over."""
        count = int(self._cells.max(initial=-1)) + 1
        completed, errors, response_sum_s = [0] * count, [0] * count, [0.0] * count
        places = {
            self._twin.groups[one.name].number: i for i, one in enumerate(self._terms) if one.name in self._twin.groups
        }
        done = self._twin.done
        for start, end, _, step, error, _, _, group in done[self._read :]:
            cell = int(self._cells[places[group], step])
            completed[cell] += 1
            errors[cell] += error > 0
            response_sum_s[cell] += 0.0 if error else end - start
        self._read = len(done)
        in_flight = len(self._twin.begun) - len(done)
        return {
            "second": number,
            "told": self._state(),
            "completed": completed,
            "errors": errors,
            "response_sum_s": response_sum_s,
            "in_flight": float(in_flight),
        }

    def _state(self) -> dict[str, object]:
        groups = [self._twin.groups.get(one.name) for one in self._terms]
        here = sum(len(group.present) for group in groups if group is not None)
        return {"here": here, "done": [group.done if group is not None else 0 for group in groups]}
