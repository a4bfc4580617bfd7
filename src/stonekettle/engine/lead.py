"""The mind of a run: from what is heard to what is done, as a pure state machine.

It never sleeps, never looks at a clock and does no I/O: :meth:`Lead.step` is told the time (s, any clock that only
rises) and what was heard since the last step, and returns what to do. So whole runs can be played in virtual time.

GATHERING ── generators ready ──▶ RUNNING ── last order ──▶ DRAINING ── all have finished ──▶ OVER
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import Any

from stonekettle.core.orders import Ordered
from stonekettle.engine import signals
from stonekettle.engine.course import ENDING, Course
from stonekettle.engine.fleet import Fleet
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.script import GroupTerms
from stonekettle.engine.signals import Action, Answer, End, Heard, Lend, Move, Note, Replace, Verb, Wish
from stonekettle.engine.strategies import PLAN, SEARCH, EverybodyDone, Guide, Profile, Strategy

GATHER_LIMIT_S = 60.0
"""A generator is a process, and its start work: on a machine that is taken away for seconds at a time, much of it."""
SETTLE_S = 5.0
"""So long after every region has a generator, those that are still missing are waited for no longer."""
BEGIN_S = 0.6
"""Time between the word to begin and the beginning, for every generator to hear it."""
AHEAD_S = 0.5
"""Orders are given so long before they take effect, for all generators to follow them at the same moment."""
UNHEARD_S = 4.0
DRAIN_LIMIT_S = 45.0
DESERTED_LIMIT_S = 30.0
"""A group whose last generator was lost waits so long for another one."""
TAKEN_OVER = "Others take over its people"


class Phase(StrEnum):
    GATHERING = "gathering"
    RUNNING = "running"
    DRAINING = "draining"
    OVER = "over"


class Lead:
    """``wanted`` is how many generators each region shall have, ``feeds`` the rows of those that are used up,
    ``room`` how many users they can carry, ``when_lost`` one of the plan's ways, ``guide`` what leads the load where
    the plan does not say it; load does not begin before the time ``not_before``, by the clock of :meth:`step`."""

    def __init__(
        self,
        planned: Ordered,
        groups: Sequence[GroupTerms],
        *,
        wanted: dict[str, int],
        feeds: dict[str, int],
        room: int,
        when_lost: str = "take over",
        strategies: Sequence[Strategy] = (),
        guide: Guide | None = None,
        not_before: float = -math.inf,
    ) -> None:
        self.phase = Phase.GATHERING
        self.fleet = Fleet(groups, feeds)
        self.course = Course(guide or Profile(planned), planned.arrivals, groups, room)
        self._wanted, self._when_lost, self._not_before = wanted, when_lost, not_before
        self._strategies = [EverybodyDone(planned, {terms.name: terms.each for terms in groups}), *strategies]
        self._zero: float | None = None
        self._since: float | None = None
        self._complete_since: float | None = None
        self._deserted: tuple[float, str] | None = None
        self._actions: list[Action] = []
        self._stood: Mapping[str, Any] = {}

    def step(self, now: float, heard: Sequence[Heard] = ()) -> list[Action]:
        """What is to be done at ``now`` after this was heard."""
        self._actions = []
        if self._since is None:
            self._since = now
        for item in heard:
            self._hear(now, item)
        if self.phase is Phase.GATHERING:
            self._gather(now)
        if self.phase is Phase.RUNNING:
            self._lead(now, heard)
        elif self.phase is Phase.DRAINING:
            self._drain(now)
        if self._zero is not None and (stands := self.course.standing()) != self._stood:
            self._stood = stands
            self._do(signals.Stand(stands))
        return self._actions

    def run_time(self, now: float) -> float:
        """Seconds since load began; negative before."""
        return now - self._zero if self._zero is not None else -1.0

    # Hearing

    def _hear(self, now: float, item: Heard) -> None:
        members = self.fleet.members
        if isinstance(item, signals.Ready):
            if self.phase in (Phase.GATHERING, Phase.RUNNING) and item.generator not in members:
                self.fleet.join(item.generator, item.region)
                if self.phase is Phase.RUNNING:
                    if self.fleet.abandoned() is None:
                        self._deserted = None
                    self._deal_again(now, f"{item.generator} joined and takes its share.")
        elif isinstance(item, signals.Told):
            self.fleet.hear(item.generator, item.second)
            self._heed_ceiling(now, item.second.get("told", {}).get("ceiling"))
        elif isinstance(item, signals.Acknowledged):
            self._confirmed(now, item)
        elif isinstance(item, signals.Measured):
            self.course.heed(item.run)
        elif isinstance(item, signals.Metered):
            pass  # for the stop rules alone
        elif isinstance(item, signals.Finished):
            self._finished(now, item)
        elif isinstance(item, signals.Lost):
            self._lost(now, item)
        else:
            self._wish(now, item)

    def _heed_ceiling(self, now: float, reached: str | None) -> None:
        """A generator held load back: what is measured from there on would be the ceiling, not the system."""
        if reached is not None and self.phase is Phase.RUNNING and self.course.ending is None:
            cause = f"{reached}, at {self.run_time(now):.0f} s. No more load may go there."
            self.course.finish(self._soon(now), RunState.STOPPED, cause, PLAN, "", haste=True)

    def _confirmed(self, now: float, item: signals.Acknowledged) -> None:
        """A generator that is heard and has not heard the orders in effect for long is given up."""
        member, order = self.fleet.members.get(item.generator), self.course.orders.in_effect(self.run_time(now))
        if member is None or order is None or self.phase is not Phase.RUNNING or item.number >= order.number:
            if member is not None:
                member.behind_since = None
        elif member.behind_since is None:
            member.behind_since = now
        elif now - member.behind_since > UNHEARD_S:
            why = f"it did not confirm order {order.number} within {UNHEARD_S:.0f} s"
            self._do(signals.GiveUp(item.generator, why))
            self._lost(now, signals.Lost(item.generator, why))

    def _finished(self, now: float, item: signals.Finished) -> None:
        member = self.fleet.members.get(item.generator)
        if member is not None and self.phase is Phase.RUNNING and not self.course.is_over(self.run_time(now)):
            self._lost(now, signals.Lost(item.generator, "it ended before the load did"))
        elif member is not None:
            member.finished = True

    def _lost(self, now: float, item: signals.Lost) -> None:
        if self.phase is Phase.GATHERING:
            self._end(RunState.FAILED, f"A generator could not start: {item.generator}: {item.why}.", False)
            return
        member = self.fleet.lose(item.generator)
        if member is None or self.phase is Phase.OVER:
            return
        at = self.run_time(now)
        what = f"The generator {item.generator} was lost at {at:.0f} s: {item.why}"
        if self.phase is Phase.DRAINING:
            self._do(Note(at, PLAN, f"{what}."))
            return
        deserted = self.fleet.abandoned()
        if self._when_lost == "end" or (deserted is not None and self._when_lost == "go on with less"):
            self._give_up_run(now, f"{what}.{f' None is left for {deserted.name}.' if deserted else ''}")
            return
        if self._when_lost == "go on with less":
            share = "The run goes on with less load."
            self._deal_again(now, f"{what}. {share}")
            factors = {name: (count - 1) / count for name, (_, count) in member.shares.items()}
            self.course.scale(self._soon(now), factors, share)
        else:
            self._do(Replace(member.region))
            taken = f"Nobody is left for {deserted.name} until another comes" if deserted else TAKEN_OVER
            self._deal_again(now, f"{what}. {taken}.")
            if deserted is not None and self._deserted is None:
                self._deserted = (now, what)

    def _deal_again(self, now: float, text: str) -> None:
        self.fleet.deal(self._soon(now))
        self._do(Note(self.run_time(now), PLAN, text))

    # Gathering

    def _gather(self, now: float) -> None:
        assert self._since is not None  # by step
        there = dict.fromkeys(self._wanted, 0)
        for member in self.fleet.members.values():
            there[member.region] = there.get(member.region, 0) + 1
        empty = [region for region in self._wanted if not there[region]]
        if not empty and self._complete_since is None:
            self._complete_since = now
        if all(there[region] >= count for region, count in self._wanted.items()) or (
            self._complete_since is not None and now - self._complete_since > SETTLE_S
        ):
            if now >= self._not_before - BEGIN_S:
                self._begin(now)
        elif now - self._since > GATHER_LIMIT_S:
            where = f" of region {empty[0]!r}" if empty and empty[0] else ""
            self._end(RunState.FAILED, f"No generator{where} was ready within {GATHER_LIMIT_S:.0f} s.", False)

    def _begin(self, now: float) -> None:
        self._zero = now + BEGIN_S
        self.phase = Phase.RUNNING
        self.fleet.deal(0.0)
        self._do(signals.Begin(BEGIN_S))
        count, wanted = len(self.fleet.members), sum(self._wanted.values())
        missing = f" {count} of {wanted} generators are there so far." if count < wanted else ""
        self._do(Move(RunState.RUNNING, f"Meters report, every journey passed its trial.{missing}"))

    # Running

    def _lead(self, now: float, heard: Sequence[Heard]) -> None:
        at = max(0.0, self.run_time(now))
        for strategy in self._strategies:
            for wish in strategy.advise(at, heard):
                self._wish(now, wish)
        if self._deserted is not None and now - self._deserted[0] > DESERTED_LIMIT_S:
            self._give_up_run(now, f"{self._deserted[1]}. No other came within {DESERTED_LIMIT_S:.0f} s.")
            self._deserted = None
        self.course.follow(self.run_time(now) + AHEAD_S)
        self._tell_given()
        for name, lease in self.fleet.leases(self.course.in_force(at), at):
            self._do(Lend(name, lease))
        if self.course.ending is not None and self.course.is_over(self.run_time(now)):
            self.phase = Phase.DRAINING
            if self._deserted is not None and self.course.ending.state is RunState.FINISHED:
                # What was ordered last was nobody's: it cannot be said to have been played.
                self.course.ending = End(RunState.FAILED, f"{self._deserted[1]}. No other came before the end.", True)
            self._do(Move(RunState.DRAINING, self.course.ending.cause))

    def _tell_given(self) -> None:
        for give in self.course.take_given():
            self._do(give)
            if give.who == SEARCH and give.why:
                self._do(Note(give.order.at_s, SEARCH, give.why))

    def _drain(self, now: float) -> None:
        self._tell_given()
        ending = self.course.ending
        assert ending is not None  # given with the last order
        late = ", ".join(member.name for member in self.fleet.members.values() if not member.finished)
        if not late:
            self._do(Move(RunState.ANALYSING, "All users have finished."))
            self._end(ending.state, ending.cause, True)
        elif self.run_time(now) - self.course.orders.duration_s > DRAIN_LIMIT_S:
            cause = f"The generator {late} did not end after draining."
            self._do(Move(RunState.ANALYSING, cause))
            self._end(RunState.FAILED, cause, True)

    def _wish(self, now: float, wish: Wish) -> None:
        """Meet a wish, or say why not; what was done is part of the run's story."""
        if self.phase is Phase.GATHERING and wish.verb in (Verb.STOP, Verb.CUT_OFF):
            self._do(Answer(wish.key, True, "Stopped before load began."))
            self._end(RunState.STOPPED, f"Stopped before load began by {wish.by}.", False)
            return
        soon = self._soon(now)
        draining = self.phase is Phase.DRAINING
        if self.phase is Phase.RUNNING or (draining and wish.verb is Verb.CUT_OFF):
            refusal = self.course.refusal(soon, wish)
        else:
            refusal = ENDING if draining else "There is no load now."
        if refusal is not None:
            self._do(Answer(wish.key, False, refusal))
            return
        text = self.course.meet(soon, wish)
        self._do(Answer(wish.key, True, text), Note(soon, wish.who, f"{text} {wish.why}".strip()))

    def _soon(self, now: float) -> float:
        """The first moment an order given now can take effect at everywhere."""
        return self.course.soonest(self.run_time(now) + AHEAD_S)

    def _give_up_run(self, now: float, cause: str) -> None:
        """Let everybody go; once those who are left have told everything, what there was is analysed."""
        if self.course.ending is None:
            self.course.finish(self._soon(now), RunState.FAILED, cause, PLAN, "", haste=True)

    def _end(self, state: RunState, cause: str, has_data: bool) -> None:
        self.phase = Phase.OVER
        self._do(End(state, cause, has_data))

    def _do(self, *actions: Action) -> None:
        self._actions.extend(actions)
