"""Where the load of a run stands and where it goes next: by its guide (a profile or a search), or as people say.

Everything it does is an order in its record. Orders take effect in the order in which they are given.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from enum import StrEnum
from typing import Any

from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Order, Ordered
from stonekettle.core.run_data import RunData
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.script import GroupTerms
from stonekettle.engine.signals import End, Give, Verb, Wish
from stonekettle.engine.strategies import PLAN, Guide, Profile, Targets
from stonekettle.plan.quantities import format_duration


class Mode(StrEnum):
    PROFILE = "profile"
    HELD = "held"
    PAUSED = "paused"


ACCEPTED: dict[Verb, frozenset[Mode]] = {
    Verb.RAISE: frozenset({Mode.PROFILE, Mode.HELD}),
    Verb.LOWER: frozenset({Mode.PROFILE, Mode.HELD}),
    Verb.HOLD: frozenset({Mode.PROFILE}),
    Verb.PAUSE: frozenset({Mode.PROFILE, Mode.HELD}),
    Verb.RESUME: frozenset({Mode.HELD, Mode.PAUSED}),
    Verb.SKIP: frozenset({Mode.PROFILE, Mode.HELD}),
    Verb.EXTEND: frozenset({Mode.PROFILE}),
    Verb.LET_GO: frozenset(Mode),
    Verb.STOP: frozenset(Mode),
    Verb.CUT_OFF: frozenset(Mode),
}
"""In which mode which wish can be met."""
WHERE = {Mode.PROFILE: "the load follows its profile", Mode.HELD: "the load is held", Mode.PAUSED: "it is paused"}
ENDING = "The load is ending already."


def _of(wish: Wish) -> str:
    """Whom it is about, if not everybody."""
    if wish.group is not None:
        return f" of {wish.group!r}"
    return f" from {wish.region!r}" if wish.region is not None else ""


class Course:
    """``room`` is how many users the generators carry at most. Methods that change the load take effect at
    ``at_s`` of the run and return what to tell of it."""

    def __init__(self, guide: Guide, arrivals: frozenset[str], groups: Sequence[GroupTerms], room: int) -> None:
        self.orders = Ordered((), arrivals)
        self.mode = Mode.PROFILE
        self.ending: End | None = None
        self._names = [terms.name for terms in groups]
        self._regions = {terms.name: terms.region for terms in groups}
        self._guide, self._room = guide, room
        self._before_pause, self._paused_at_targets = Mode.PROFILE, {name: Target.steady(0) for name in self._names}
        self._released: set[str] = set()
        self._factors = dict.fromkeys(self._names, 1.0)
        self._given: list[Give] = []

    def standing(self) -> dict[str, Any]:
        """All of this beside its orders, as plain data for JSON."""
        return {
            "profile": self._guide.standing() if isinstance(self._guide, Profile) else None,
            "mode": self.mode.value,
            "before_pause": self._before_pause.value,
            "at_pause": {name: (t.start, t.end, t.over_s) for name, t in self._paused_at_targets.items()},
            "released": sorted(self._released),
            "factors": dict(self._factors),
            "room": self._room,
            "over": self.ending is not None,
        }

    @classmethod
    def at(cls, guide: Guide, orders: Ordered, groups: Sequence[GroupTerms], standing: Mapping[str, Any]) -> Course:
        """The inverse of :meth:`standing`, also after a way through JSON; the guide stands where it stood."""
        found = cls(guide, orders.arrivals, groups, standing["room"])
        found.orders, found.mode = orders, Mode(standing["mode"])
        found._before_pause = Mode(standing["before_pause"])
        found._paused_at_targets = {name: Target(*line) for name, line in standing["at_pause"].items()}
        found._released, found._factors = set(standing["released"]), dict(standing["factors"])
        if standing["over"]:
            found.ending = End(RunState.STOPPED, "", True)
        return found

    def take_given(self) -> list[Give]:
        """The orders given since the last call."""
        found, self._given = self._given, []
        return found

    def follow(self, until_s: float) -> None:
        """Give the orders it comes to by itself up to a moment."""
        for turn in self._guide.turns(until_s):
            if self.ending is not None:
                return
            if turn.over:
                self.finish(turn.at_s, RunState.FINISHED, turn.why, turn.who, "")
            else:
                self._give(turn.at_s, self._planned(turn.targets), turn.who, turn.why)

    def heed(self, run: RunData) -> None:
        """What was measured so far; while people lead the load it changes nothing."""
        if self.mode is Mode.PROFILE and self.ending is None and self.orders.orders:
            self._guide.heed(run, self.orders)

    def in_force(self, t: float) -> list[Order]:
        """The orders in effect at ``t`` and to come."""
        current = self.orders.in_effect(t)
        return [order for order in self.orders.orders[-8:] if order is current or order.at_s > t]

    def is_over(self, t: float) -> bool:
        return self.ending is not None and t >= self.orders.duration_s

    def soonest(self, t: float) -> float:
        """The first moment from ``t`` on that is not before orders already given."""
        return max(t, self.orders.orders[-1].at_s if self.orders.orders else 0.0, 0.0)

    # Wishes

    def refusal(self, at_s: float, wish: Wish) -> str | None:
        """Why a wish cannot be met; None where it can."""
        if self.ending is not None and wish.verb is not Verb.CUT_OFF:
            return ENDING
        if wish.verb in (Verb.SKIP, Verb.EXTEND) and not isinstance(self._guide, Profile):
            return "The search decides itself how long a level lasts and what comes next."
        if self.mode not in ACCEPTED[wish.verb]:
            return f"There is nothing to {wish.verb}: {WHERE[self.mode]}."
        if wish.group is not None and wish.group not in self._names:
            return f"There is no group {wish.group!r}; there are {', '.join(self._names)}."
        if not self._chosen(wish):
            known = ", ".join(sorted(set(self._regions.values()) - {""})) or "none"
            return f"Nobody comes from a region {wish.region!r}. Regions of this run: {known}."
        if wish.verb is Verb.EXTEND:
            return self._refused_length(at_s, wish)
        return self._refused_amount(at_s, wish) if wish.verb.amounts else None

    def meet(self, at_s: float, wish: Wish) -> str:
        """Do what is wished for; what was done, in words."""
        if wish.verb.amounts:
            return self._steer(at_s, wish)
        if wish.verb is Verb.HOLD:
            self._stand(at_s, Mode.HELD)
            self._give(at_s, self._standing(at_s), wish.who, wish.why)
            return "Held where it is."
        if wish.verb is Verb.PAUSE:
            self._before_pause, self._paused_at_targets = self.mode, dict(self._targets_at(at_s))
            self._stand(at_s, Mode.PAUSED)
            self._give(at_s, self._standing(at_s), wish.who, wish.why, paused=True)
            return "Paused: users finish their step and wait."
        if wish.verb is Verb.RESUME:
            return self._resume(at_s, wish)
        if wish.verb is Verb.SKIP:
            return self._skip(at_s, wish)
        if wish.verb is Verb.EXTEND:
            self._profile.linger(at_s, wish.over_s)
            return f"This level lasts {format_duration(wish.over_s)} longer."
        if wish.verb is Verb.LET_GO:
            return self._let_go(at_s, wish)
        if wish.verb is Verb.CUT_OFF:
            cause = f"Cut off by {wish.by}."
            self.finish(at_s, RunState.STOPPED, cause, wish.who, wish.why, haste=True, cut=True)
            return "Cut off: what users were waiting for was ended."
        self.finish(at_s, RunState.STOPPED, f"Stopped by {wish.by}.", wish.who, wish.why, haste=True)
        return "Stopped: users finish the step they are in."

    def scale(self, at_s: float, factors: Mapping[str, float], why: str) -> None:
        """Go on with a share of some groups' load, from now on and in what the profile has yet to bring."""
        self._factors = {name: self._factors[name] * factors.get(name, 1.0) for name in self._names}
        targets = {name: target.scaled(factors.get(name, 1.0)) for name, target in self._targets_at(at_s).items()}
        self._give(at_s, targets, PLAN, why, paused=self.mode is Mode.PAUSED)

    def finish(
        self,
        at_s: float,
        state: RunState,
        cause: str,
        who: str,
        why: str,
        *,
        haste: bool = False,
        cut: bool = False,
    ) -> None:
        """Nobody comes any more from then on."""
        nobody = {name: Target.steady(0) for name in self._names}
        self.ending = End(state, cause, True)
        self._record(Order(self._number, self.soonest(at_s), nobody, last=True, haste=haste, cut=cut), who, why)

    @property
    def _profile(self) -> Profile:
        assert isinstance(self._guide, Profile)  # by refusal
        return self._guide

    def _chosen(self, wish: Wish) -> list[str]:
        """The groups it is about."""
        if wish.group is not None:
            return [wish.group]
        return [name for name in self._names if wish.region in (None, self._regions[name])]

    def _refused_length(self, at_s: float, wish: Wish) -> str | None:
        if not wish.over_s > 0:
            return "Say how much longer: a time above 0."
        if any(target.moving for target in self._targets_at(at_s).values()):
            return "The load is on its way to another level; one can be made longer once it is reached."
        return None

    def _refused_amount(self, at_s: float, wish: Wish) -> str | None:
        arriving = self.orders.arrivals
        if wish.amount is None or wish.amount < 0:
            return "Say to how much: a number that is not negative."
        chosen = self._chosen(wish)
        if len({name in arriving for name in chosen}) > 1:
            return f"Say of which group: {', '.join(self._names)}. They are counted in different units."
        current = sum(self.orders.amount(name, at_s) for name in chosen)
        if (wish.amount <= current) if wish.verb is Verb.RAISE else (wish.amount >= current):
            return f"The load is {current:g} then; {wish.amount:g} does not {wish.verb} it."
        if chosen[0] in arriving:
            return None
        others = [name for name in self._names if name not in chosen and name not in arriving]
        if wish.amount + sum(self.orders.amount(name, at_s) for name in others) > self._room:
            return f"The generators of this run carry {self._room} users at most."
        return None

    def _steer(self, at_s: float, wish: Wish) -> str:
        assert wish.amount is not None  # by _refused_amount
        targets = self._standing(at_s)
        chosen = self._chosen(wish)
        total = sum(targets[name].end for name in chosen)
        for name in chosen:
            current = targets[name].end
            part = current / total if total else 1 / len(chosen)
            targets[name] = Target(current, wish.amount * part, wish.over_s)
        self._stand(at_s, Mode.HELD)
        self._give(at_s, targets, wish.who, wish.why)
        of_group = _of(wish)
        within = f" within {wish.over_s:g} s" if wish.over_s else ""
        return f"{'Raised' if wish.verb is Verb.RAISE else 'Lowered'} to {wish.amount:g}{of_group}{within}."

    def _resume(self, at_s: float, wish: Wish) -> str:
        paused, self.mode = self.mode is Mode.PAUSED, self._before_pause if self.mode is Mode.PAUSED else Mode.PROFILE
        if self.mode is Mode.HELD:
            self._give(at_s, self._paused_at_targets, wish.who, wish.why)
            return "Goes on where it was held."
        self._give(at_s, self._planned(self._guide.go_on(at_s)), wish.who, wish.why)
        return "Goes on." if paused else "Follows its profile again."

    def _skip(self, at_s: float, wish: Wish) -> str:
        turn = self._profile.leap(at_s)
        self.mode = Mode.PROFILE
        if turn.over:
            self.finish(at_s, RunState.FINISHED, f"Its last level was ended by {wish.by}.", wish.who, wish.why)
            return "The last level is over."
        self._give(at_s, self._planned(turn.targets), wish.who, wish.why)
        return "On to what comes next."

    def _let_go(self, at_s: float, wish: Wish) -> str:
        self._released |= set(self._chosen(wish))
        if self._released >= set(self._names):
            reason = wish.why if wish.who == PLAN else f"Everybody was let go by {wish.who}"
            self.finish(at_s, RunState.FINISHED, f"{reason} at {at_s:.0f} s.", wish.who, wish.why)
            return "Everybody is let go."
        self._give(at_s, self._targets_at(at_s), wish.who, wish.why, paused=self.mode is Mode.PAUSED)
        return f"Everybody{_of(wish)} is let go."

    # Orders

    @property
    def _number(self) -> int:
        return self.orders.orders[-1].number + 1 if self.orders.orders else 1

    def _give(self, at_s: float, targets: Targets, who: str, why: str, *, paused: bool = False) -> None:
        told = {name: Target.steady(0) if name in self._released else target for name, target in targets.items()}
        self._record(Order(self._number, self.soonest(at_s), told, paused=paused), who, why)

    def _record(self, order: Order, who: str, why: str) -> None:
        self.orders = replace(self.orders, orders=(*self.orders.orders, order))
        self._given.append(Give(order, who, why))

    def _stand(self, at_s: float, mode: Mode) -> None:
        """The profile's clock stands."""
        self._guide.stop(at_s)
        self.mode = mode

    def _planned(self, targets: Targets) -> dict[str, Target]:
        """What the profile says, less what cannot be made any more."""
        return {name: target.scaled(self._factors[name]) for name, target in targets.items()}

    def _targets_at(self, t: float) -> dict[str, Target]:
        """The lines in effect at ``t``, told from there on."""
        order = self.orders.in_effect(t)
        if order is None:
            return {name: Target.steady(0) for name in self._names}
        return {name: target.later(t - order.at_s) for name, target in order.targets.items()}

    def _standing(self, t: float) -> dict[str, Target]:
        """The load as it is at ``t``, and stays."""
        return {name: Target.steady(target.after(0.0)) for name, target in self._targets_at(t).items()}
