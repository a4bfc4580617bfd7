"""What should be there for a peak, what would it do, and what if things are not quite as they are taken to be?

The cheapest plan over all sizes that instances can have (a component at a time, each in the size that makes the whole
cheapest), beside plans that are alike in one thing each; what it does at the peak; up to which load each component
goes; and what would be needed if demands, think time, mix or load were other ones.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from stonekettle.core.capacity import Ceiling, Planner, Terms, Unplanned, interval
from stonekettle.core.known import Known
from stonekettle.core.objectives import Objective
from stonekettle.core.serving import Serving, System
from stonekettle.core.types import Estimate

OTHERWISE = 0.1
"""Demands and the load are taken to be so much more and less, each journey to have so much more of the mix."""
MOST_JOURNEYS = 4


@dataclass(frozen=True)
class Size:
    """A size of a component's instances: so many ``times`` what they have now, at a ``price`` per hour."""

    component: str
    name: str
    times: float
    price: float


Sizes = Mapping[str, Size]
"""Those that are other than now, by component."""


@dataclass(frozen=True)
class Plan:
    """So many instances of each component, in the ``sizes`` that differ from those of now; what they cost per hour (in
    instances where they have no price), and up to which load they suffice (None: beyond all looked at)."""

    counts: tuple[int, ...]
    sizes: Sizes
    cost: float
    carried: float | None


@dataclass(frozen=True)
class Doing:
    """What instances do at the peak: the rate of steps (1/s); how full each station is, and what each goal judges (s,
    or a score) as long as all are there and with the loss that strains most, of ``lost``; and the use of each pool."""

    rate: float
    use: tuple[Estimate, ...]
    use_lost: tuple[Estimate, ...]
    judged: tuple[Estimate, ...]
    judged_lost: tuple[Estimate, ...]
    lost: str | None
    holds: bool
    pools: tuple[float, ...]


Otherwise = Literal["load", "demands up", "demands down", "think", "mix"]


@dataclass(frozen=True)
class What:
    """What would be needed if something were otherwise, and whether the plan would hold; of a mix, which journey has
    more."""

    kind: Otherwise
    journey: str
    plan: Plan | Unplanned
    holds: bool


@dataclass(frozen=True)
class Alternative:
    """A plan that is alike in one thing: sizes as now, one more of each, or a component in another size."""

    kind: Literal["as now", "one more", "size"]
    plan: Plan
    size: Size | None = None


@dataclass(frozen=True)
class Study:
    """All of it. ``plan`` is the cheapest; ``now`` are the instances that are there, which may not hold: they carry
    ``now_whole`` as long as none is lost, and their ceilings are of that too. Ceilings are in order, the lowest first.
    ``doubled`` is what twice the peak would need."""

    plan: Plan | Unplanned
    doing: Doing | None
    ceilings: tuple[Ceiling, ...]
    now: Plan
    now_doing: Doing
    now_whole: float | None
    now_ceilings: tuple[Ceiling, ...]
    doubled: Plan | Unplanned
    alternatives: tuple[Alternative, ...]


class Case:
    """A system with its goals, terms, and the sizes to choose from."""

    def __init__(self, known: Known, goals: Sequence[Objective], terms: Terms, sizes: Sequence[Size] = ()) -> None:
        self.known, self.goals, self.terms = known, tuple(goals), terms
        self._sizes = tuple(sizes)

    def study(self) -> Study:
        found = self.cheapest()
        present = self._planner({})
        counts = tuple(self.known.instances[part] for part in present.parts)
        unhurt = self._other(terms=replace(self.terms, lost=0))._planner({})
        planner = self._planner(found.sizes) if isinstance(found, Plan) else None
        return Study(
            found,
            self._doing(planner, found.counts) if planner and isinstance(found, Plan) else None,
            planner.ceilings(found.counts) if planner and isinstance(found, Plan) else (),
            _told(present, counts, {}),
            self._doing(present, counts),
            unhurt.carried(counts),
            unhurt.ceilings(counts),
            self._other(terms=replace(self.terms, peak=self.terms.peak.times(2))).cheapest(carried=False),
            tuple(self._alternatives(found)) if isinstance(found, Plan) else (),
        )

    def cheapest(self, *, carried: bool = True) -> Plan | Unplanned:
        """The cheapest plan over sizes; ``carried`` says whether to look how far it goes."""
        best, chosen = self._planned({}), dict[str, Size]()
        for component in dict.fromkeys(size.component for size in self._sizes):
            for size in (one for one in self._sizes if one.component == component):
                other = self._planned({**chosen, component: size})
                if _cost(other) < _cost(best):
                    best = other
            if isinstance(best, Plan):
                chosen = dict(best.sizes)
        if carried and isinstance(best, Plan):
            return replace(best, carried=self._planner(best.sizes).carried(best.counts))
        return best

    def otherwise(self, plan: Plan, journeys: Sequence[str]) -> list[What]:
        """What would be needed otherwise, in the sizes of a plan; ``journeys`` are those of the steps."""
        everywhere = {station.key: 1 + OTHERWISE for station in self.known.system.stations}
        fewer = dict.fromkeys(everywhere, 1 - OTHERWISE)
        system, terms = self.known.system, self.terms
        others: list[tuple[Otherwise, str, Case]] = [
            ("load", "", self._other(terms=replace(terms, peak=terms.peak.times(1 + OTHERWISE)))),
            ("demands up", "", self._other(system.costing(everywhere))),
            ("demands down", "", self._other(system.costing(fewer))),
        ]
        if terms.peak.kind == "users" and system.think_s > 0:
            others.append(("think", "", self._other(replace(system, think_s=system.think_s / 2))))
        for journey in _most_used(system, journeys):
            others.append(("mix", journey, self._other(shifted(system, journeys, journey))))
        return [
            What(kind, journey, case._planned(plan.sizes), case._planner(plan.sizes).holds(plan.counts))
            for kind, journey, case in others
        ]

    def doing(self, plan: Plan) -> Doing:
        """What a plan does at the peak."""
        return self._doing(self._planner(plan.sizes), plan.counts)

    def users(self, plan: Plan) -> float:
        """So many users make the peak, by Little's law."""
        planner = self._planner(plan.sizes)
        return planner.serving.users(self.terms.peak, plan.counts)

    def _other(self, system: System | None = None, *, terms: Terms | None = None) -> Case:
        known = replace(self.known, system=system) if system else self.known
        return Case(known, self.goals, terms or self.terms, self._sizes)

    def _planner(self, sizes: Sizes) -> Planner:
        system = self.known.system.sized({name: size.times for name, size in sizes.items()})
        prices = {**self.terms.prices, **{name: size.price for name, size in sizes.items()}}
        return Planner(Serving(system, self.goals), replace(self.terms, prices=prices))

    def _planned(self, sizes: Sizes) -> Plan | Unplanned:
        planner = self._planner(sizes)
        counts = planner.plan()
        return counts if isinstance(counts, Unplanned) else Plan(counts, sizes, planner.cost(counts), None)

    def _alternatives(self, best: Plan) -> list[Alternative]:
        found = []
        if best.sizes and isinstance(present := self._planned({}), Plan):
            found.append(Alternative("as now", self._carried(present)))
        planner = self._planner(best.sizes)
        metered = {station.component for station in self.known.system.stations}
        more = tuple(n + (part in metered) for part, n in zip(planner.parts, best.counts, strict=True))
        found.append(Alternative("one more", _told(planner, more, best.sizes)))
        for size in self._sizes:
            if best.sizes.get(size.component) != size:
                other = self._planned({**best.sizes, size.component: size})
                if isinstance(other, Plan):
                    found.append(Alternative("size", self._carried(other), size))
        return found

    def _carried(self, plan: Plan) -> Plan:
        return replace(plan, carried=self._planner(plan.sizes).carried(plan.counts))

    def _doing(self, planner: Planner, counts: tuple[int, ...]) -> Doing:
        peak, serving = self.terms.peak, planner.serving
        left = planner.worst(counts)
        whole, short = serving.served(peak, counts), serving.served(peak, left)
        gone = [part for part, all_there, some in zip(planner.parts, counts, left, strict=True) if some < all_there]
        return Doing(
            float(whole.rate[0]),
            tuple(interval(column) for column in whole.utilisation.T),
            tuple(interval(column) for column in short.utilisation.T),
            tuple(interval(serving.judged_s(peak, counts, goal)) for goal in self.goals),
            tuple(interval(serving.judged_s(peak, left, goal)) for goal in self.goals),
            gone[0] if gone else None,
            planner.holds(counts),
            self._pools(serving, counts),
        )

    def _pools(self, serving: Serving, counts: tuple[int, ...]) -> tuple[float, ...]:
        """How much of each pool is used at the peak: held as long as at light load, and while steps wait behind it."""
        rate = float(serving.served(self.terms.peak, counts).rate[0])
        waits = serving.mean_wait_s(self.terms.peak, counts)
        used = []
        for pool in self.known.pools:
            behind = [k for k, s in enumerate(serving.system.stations) if s.component == pool.component]
            used.append(rate * (pool.held_s + sum(float(waits[k]) for k in behind)) / pool.places)
        return tuple(used)


def shifted(system: System, journeys: Sequence[str], journey: str) -> System:
    """The system with so much more of one journey in its mix, and of the others less in proportion."""
    own = sum(step.share for step, of in zip(system.steps, journeys, strict=True) if of == journey)
    more = min(1.0, own + OTHERWISE)
    rest = (1 - more) / (1 - own) if own < 1 else 0.0
    return system.mixed(
        [step.share * (more / own if of == journey else rest) for step, of in zip(system.steps, journeys, strict=True)]
    )


def _most_used(system: System, journeys: Sequence[str]) -> list[str]:
    """The journeys with the most steps in the mix, where there are several."""
    shares: dict[str, float] = {}
    for step, journey in zip(system.steps, journeys, strict=True):
        shares[journey] = shares.get(journey, 0.0) + step.share
    told = sorted((name for name, share in shares.items() if share > 0), key=lambda name: -shares[name])
    return told[:MOST_JOURNEYS] if len(told) > 1 else []


def _told(planner: Planner, counts: tuple[int, ...], sizes: Sizes) -> Plan:
    return Plan(counts, sizes, planner.cost(counts), planner.carried(counts))


def _cost(plan: Plan | Unplanned) -> float:
    return plan.cost if isinstance(plan, Plan) else math.inf
