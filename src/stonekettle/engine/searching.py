"""Leads the load of a plan that searches: from what was measured so far to the next level, with the reason in words."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from stonekettle.core.load_profile import Target
from stonekettle.core.objectives import Objective
from stonekettle.core.orders import Ordered
from stonekettle.core.run_data import RunData
from stonekettle.core.search import Bounds, End, Go, Over, Search, Stage
from stonekettle.engine.strategies import SEARCH, Targets, Turn
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.quantities import format_duration

LOOK_S = 2.0
"""So often a search wants to hear what was measured."""
UNTOLD_S = 15.0
"""So long after its time it waits for what was measured until then."""


def searcher_of(plan: Plan) -> Searcher | None:
    """What leads a run of the plan; None where it says itself what load there shall be."""
    told = plan.search
    if told is None:
        return None
    bounds = Bounds(float(told.start), float(told.end), told.within, told.precision)
    portions = {group.name: group.portion for group in plan.people if not group.arrives}
    goals = tuple(goal for goal in document.core_objectives(plan) if goal.decides)
    if not any(goal.kind == "errors" and goal.steps is None for goal in goals):
        # Whoever is turned away at once is answered fast: that would be no reason to go on upwards.
        goals = (*goals, Objective(0, "errors", plan.error_limit))
    return Searcher(Search(bounds, goals), portions)


class Searcher:
    """The guide of such a run. ``portions`` are the shares of the users that each group has."""

    def __init__(self, search: Search, portions: Mapping[str, float]) -> None:
        self._search, self._portions = search, portions
        self._load = 0.0
        self._next: Go | Over | None = search.first()
        self._stands = False

    def stop(self, at_s: float) -> None:
        """People lead the load: what they do is measured all the same."""
        self._stands = True

    def go_on(self, at_s: float) -> Targets:
        """From ``at_s`` on its level again."""
        self._stands = False
        return self._targets()

    def wants_to_hear(self, at_s: float, ordered: Ordered) -> bool:
        """Whether there may be anything to decide."""
        return self._next is None and bool(ordered.orders) and at_s >= ordered.orders[-1].at_s + self._search.least_s

    def heed(self, run: RunData, ordered: Ordered) -> None:
        """Decide on the next level, once the one in force has lasted for a while."""
        if self.wants_to_hear(run.seconds, ordered):
            said = self._search.look(run, ordered)
            self._next = said if isinstance(said, Go | Over) else None

    def turns(self, until_s: float) -> Iterable[Turn]:
        if self._stands:
            return
        if self._next is None:
            # Whatever became of those who tell what was measured: no level goes on for ever.
            if until_s > self._search.bounds.within_s + UNTOLD_S:
                within = format_duration(self._search.bounds.within_s)
                why = f"The search had {within}, and nothing that was measured was told it in the end."
                yield Turn(until_s, {}, True, SEARCH, why)
            return
        said, self._next = self._next, None
        if isinstance(said, Over):
            yield Turn(until_s, {}, True, SEARCH, self._ending(said))
            return
        self._load = said.load
        yield Turn(max(0.0, until_s), self._targets(), who=SEARCH, why=_reason(said))

    def _targets(self) -> Targets:
        return {name: Target.steady(self._load * portion) for name, portion in self._portions.items()}

    def _ending(self, over: Over) -> str:
        bounds = self._search.bounds
        if over.end is End.MOST:
            return f"Every objective holds at {bounds.most:g} users, the most the search was to try."
        if over.end is End.LOWEST:
            return f"An objective is missed at {bounds.lowest:g} users already, the fewest the search was to try."
        if over.end is End.BLURRED:
            return "The search is over: the generators were too late to tell on which side of an objective a level is."
        if over.found is None:
            return f"The search had {format_duration(bounds.within_s)}; no objective was missed until then."
        share = (over.found.high - over.found.low) / 2 / over.found.value
        known = f"the limit is known within ±{share * 100:.2g} % after {over.levels} levels"
        why = {
            End.PRECISE: f"The search is over: {known}.",
            End.NO_GAIN: f"The search is over: {known}, and one more would hardly narrow it.",
            End.TIME: f"The search had {format_duration(bounds.within_s)}: {known}.",
        }[over.end]
        return why if over.foretold is None else f"{why} Light levels had foretold {over.foretold:.0f} users."


def _reason(said: Go) -> str:
    users = f"{said.load:g} users"
    if said.stage is Stage.LIGHT:
        return f"{users}: a light level, for what a step takes and costs."
    if said.stage is Stage.APPROACH:
        return f"{users}, on the way to the {said.foretold:.0f} up to which the objectives should hold."
    if said.stage is Stage.AROUND:
        return f"{users}, beside the {said.foretold:.0f} up to which the objectives should hold."
    return f"{users}, to enclose the load up to which the objectives hold."
