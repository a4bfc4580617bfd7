"""What a plan says that the one before it did not, in words: for people who ask what was changed between two runs."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TypeVar

from stonekettle.plan.calls import Due
from stonekettle.plan.load import ArrivalGroup, Fixed, UserGroup
from stonekettle.plan.models import Objective, Plan, StopRule, Waits
from stonekettle.plan.parts import Part
from stonekettle.plan.quantities import format_bit_rate, format_duration
from stonekettle.plan.system import Component, System

P = TypeVar("P", bound=Part)
WORDING = "wording or comments only"
_OWN_PORT = re.compile(r"//127\.0\.0\.1:\d+")


def differences(before: Plan, after: Plan) -> tuple[str, ...]:
    """Every change that a reader would want to know, the most telling first; :data:`WORDING` where there is none."""
    found = (
        *_changed("name", before.name, after.name),
        *_system(before, after),
        *_load(before, after),
        *_objectives(before, after),
        *_changed("error limit", f"{before.error_limit * 100:g} %", f"{after.error_limit * 100:g} %"),
        *_stops(before, after),
        *_journeys(before, after),
        *_parts("feed", before.feeds, after.feeds),
        *_changed("think times", _waits(before.waits), _waits(after.waits)),
        *_timeline(before, after),
        *_candidates(before, after),
        *_changed("when a generator is lost", before.generators.when_lost, after.generators.when_lost),
        *_changed("price of a generator", _price(before), _price(after)),
        *_reworded(before, after),
    )
    return found or (WORDING,)


def _candidates(before: Plan, after: Plan) -> Iterator[str]:
    names, other = ([one.name for one in plan.candidates.each] if plan.candidates else [] for plan in (before, after))
    yield from _changed("candidates", *(", ".join(own) or "none" for own in (names, other)))
    if names == other and before.candidates != after.candidates:
        yield "candidates described differently"
    told = [plan.scaling for plan in (before, after)]
    yield from _changed("what is scaled", *(one.summary if one is not None else "nothing" for one in told))
    if told[0] != told[1] and all(told) and len({one.summary for one in told if one is not None}) == 1:
        yield "scaling described differently"


def _changed(what: str, before: str, after: str) -> Iterator[str]:
    if before != after:
        yield f"{what} {before} → {after}"


def _system(before: Plan, after: Plan) -> Iterator[str]:
    if before.system.name != after.system.name:
        yield from _changed("system", before.system.name, after.system.name)
        return
    old, new = ({one.name: one for one in plan.system.components} for plan in (before, after))
    yield from (f"component {name} added" for name in new if name not in old)
    yield from (f"component {name} removed" for name in old if name not in new)
    told = [line for name in new if name in old for line in _component(old[name], new[name])]
    yield from told
    yield from _changed("address", before.system.base_url, after.system.base_url)
    if _described(before.system) != _described(after.system) and not told and old.keys() == new.keys():
        yield f"system {after.system.name} described differently"


def _described(system: System) -> object:
    """What a system is but for its address."""
    return own_ports_alike(system.model_dump_json(exclude={"base_url"}))


def own_ports_alike(text: str) -> str:
    """A description in which ports of this machine, which may be others at each start, are all alike."""
    return _OWN_PORT.sub("//127.0.0.1:", text)


def _component(before: Component, after: Component) -> Iterator[str]:
    for what, *values in (
        ("version", before.version, after.version),
        ("instance type", _type(before), _type(after)),
        ("instances", str(before.instances), str(after.instances)),
    ):
        yield from _changed(f"{after.name} {what}", *(value or "not told" for value in values))


def _type(component: Component) -> str:
    """An instance type by its name, or by what it is."""
    told = component.instance_type
    if told is None:
        return ""
    return told.name or (f"{told.vcpus:g} vCPUs" if told.vcpus is not None else "")


def _load(before: Plan, after: Plan) -> Iterator[str]:
    yield from _changed("length", *(format_duration(plan.planned.duration_s) for plan in (before, after)))
    old, new = ({group.name: group for group in plan.written} for plan in (before, after))
    both = [name for name in new if name in old]
    if not both and len(old) == len(new) == 1:  # the one group got a name, or lost it
        old, both = {name: next(iter(old.values())) for name in new}, list(new)
    yield from (f"group {name} added" for name in new if name not in old)
    yield from (f"group {name} removed" for name in old if name not in new)
    for name in both:
        of = f" of {name}" if len(new) > 1 else ""
        yield from _group(of, old[name], new[name])


def _group(of: str, before: UserGroup | ArrivalGroup, after: UserGroup | ArrivalGroup) -> Iterator[str]:
    if before.arrives != after.arrives:
        yield f"people{of} {'arrive by rate' if after.arrives else 'are counted in users'} now"
        return
    unit = "/s" if after.arrives else " users"
    peaks = [f"{group.profile.peak:g}" for group in (before, after)]
    if peaks[0] != peaks[1]:
        yield f"peak{of} {peaks[0]} → {peaks[1]}{unit}"
    if before.profile != after.profile and before.profile.peak == after.profile.peak:
        yield f"load{of} shaped differently"
    yield from _changed(f"mix{of}", _mix(before), _mix(after))
    yield from _changed(f"region{of}", _region(before), _region(after))
    yield from _changed(f"network{of}", _network(before), _network(after))
    yield from _changed(f"journeys each{of}", *(str(g.journeys_each or "without end") for g in (before, after)))
    yield from _changed(f"leaving{of}", before.leave, after.leave)
    if isinstance(before, ArrivalGroup) and isinstance(after, ArrivalGroup):
        yield from _changed(f"spacing of arrivals{of}", before.law, after.law)
        yield from _changed(f"most at a time{of}", str(before.at_most), str(after.at_most))
        yield from _changed(f"connections{of}", before.connections, after.connections)


def _mix(group: UserGroup | ArrivalGroup) -> str:
    parts = (
        f"{part.users} users {name}" if isinstance(part, Fixed) else f"{part:g} {name}"
        for name, part in group.mix.items()
    )
    return ", ".join(parts) or "the journeys' weights"


def _region(group: UserGroup | ArrivalGroup) -> str:
    return ", ".join(f"{share:g} {name}" for name, share in group.regions.items()) or group.region or "any"


def _network(group: UserGroup | ArrivalGroup) -> str:
    rates = (("down", group.network.down), ("up", group.network.up))
    parts = [f"{format_bit_rate(rate)} {way}" for way, rate in rates if rate]
    if group.network.round_trip:
        parts.append(f"{format_duration(group.network.round_trip)} round trip")
    return ", ".join(parts) or "unlimited"


def _objectives(before: Plan, after: Plan) -> Iterator[str]:
    old, new = ({_about(goal): _goal(goal) for goal in plan.objectives} for plan in (before, after))
    for about, goal in new.items():
        if about not in old:
            yield f"objective of {about} added: {goal}"
        else:
            yield from _changed(f"objective of {about}", old[about], goal)
    yield from (f"objective of {about} removed" for about in old if about not in new)


def _about(goal: Objective) -> str:
    subject = goal.step or "all requests"
    if goal.percentile is not None:
        return f"{subject}, p{goal.percentile:g}"
    kinds = {"errors": goal.errors, "mean": goal.mean, "Apdex": goal.apdex, "throughput": goal.throughput}
    return f"{subject}, {next(kind for kind, said in kinds.items() if said is not None)}"


def _goal(goal: Objective) -> str:
    role = "" if goal.role == "decides" else f", {goal.role}"
    if goal.errors is not None:
        return f"{goal.errors * 100:g} %{role}"
    if goal.apdex is not None:
        return f"{goal.apdex:g} at T = {format_duration(goal.target or 0)}{role}"
    if goal.throughput is not None:
        return f"{goal.throughput:g} /s{role}"
    return f"{format_duration(goal.within or goal.mean or 0)}{role}"


def _stops(before: Plan, after: Plan) -> Iterator[str]:
    old, new = ([stop_text(rule) for rule in plan.stop_when] for plan in (before, after))
    yield from (f"stop rule added: {rule}" for rule in new if rule not in old)
    yield from (f"stop rule removed: {rule}" for rule in old if rule not in new)
    yield from _changed("budget", _budget(before), _budget(after))


def _price(plan: Plan) -> str:
    price = plan.generators.price_per_hour
    return "none" if price is None else f"{price:g} {plan.system.currency} an hour"


def _timeline(before: Plan, after: Plan) -> Iterator[str]:
    old, new = ([due_text(plan, due) for due in plan.timeline] for plan in (before, after))
    yield from (f"added to the timeline: {text}" for text in new if text not in old)
    yield from (f"taken off the timeline: {text}" for text in old if text not in new)


def due_text(plan: Plan, due: Due) -> str:
    """A change on the timeline in words: "at 2 min, Set instances: planner, 3"."""
    changes = plan.system.operations.changes if plan.system.operations else ()
    words = next((one.words(due.values) for one in changes if one.name == due.change), due.change)
    return f"at {format_duration(due.at)}, {words}"


def stop_text(rule: StopRule) -> str:
    """A stop rule in words."""
    long = format_duration(rule.during)
    if rule.utilisation is not None:
        return f"{rule.resource} over {rule.utilisation * 100:g} % busy for {long}"
    if rule.blur is not None:
        return f"blur over {rule.blur * 100:g} % for {long}"
    what = f"{(rule.errors or 0) * 100:g} % errors" if rule.errors is not None else format_duration(rule.response or 0)
    return f"{rule.step or 'all steps'} over {what} for {long}"


def _budget(plan: Plan) -> str:
    time, money = plan.budget.time, plan.budget.money
    parts = [format_duration(time)] if time is not None else []
    return " and ".join([*parts, *([f"{money:g} {plan.system.currency}"] if money is not None else [])]) or "none"


def _journeys(before: Plan, after: Plan) -> Iterator[str]:
    old, new = ({journey.name: journey for journey in plan.journeys} for plan in (before, after))
    for name in new.keys() & old.keys():
        yield from _changed(f"weight of {name}", f"{old[name].weight:g}", f"{new[name].weight:g}")
    without_weights = [
        [journey.model_copy(update={"weight": 1.0}) for journey in plan.journeys] for plan in (before, after)
    ]
    yield from _parts("journey", *without_weights)


def _parts(kind: str, before: Sequence[P], after: Sequence[P]) -> Iterator[str]:
    old, new = (_by_name(parts) for parts in (before, after))
    yield from (f"{kind} {name} added" for name in new if name not in old)
    yield from (f"{kind} {name} removed" for name in old if name not in new)
    yield from (f"{kind} {name} described differently" for name in new if name in old and new[name] != old[name])


def _by_name(parts: Iterable[P]) -> Mapping[str, P]:
    return {part.name: part for part in parts}  # type: ignore[attr-defined]


def _waits(waits: Waits | None) -> str:
    if waits is None:
        return "as the journeys say"
    if waits.think is not None:
        return f"{waits.think.law} {format_duration(waits.think.mean)}"
    return f"times {waits.factor:g}"


def _reworded(before: Plan, after: Plan) -> Iterator[str]:
    for field in ("question", "hypothesis", "notes"):
        if getattr(before, field) != getattr(after, field):
            yield f"{field} reworded"
    yield from _changed("tags", *(", ".join(plan.tags) or "none" for plan in (before, after)))
