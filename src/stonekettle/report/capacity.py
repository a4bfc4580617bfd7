"""A capacity plan in words: whether the present system is enough, until when, what to add, and what nobody knows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from stonekettle.core.capacity import Terms, Unplanned
from stonekettle.core.capacity_study import OTHERWISE, Alternative, Plan, Study, What
from stonekettle.core.cost import HOURS_A_MONTH
from stonekettle.core.known import LIGHT, Known
from stonekettle.plan.capacity_document import CapacityPlan
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Grade, Note, resource_text

TRIED_ENOUGH = 1.05
"""A plan for so many times the load that was tried is for another one."""
FULL_POOL = 0.8
SHORT = 48
"""So many characters of what is to be added fit into a heading."""


@dataclass(frozen=True)
class Resized:
    """A component whose instances were of another size when they were measured: now they have so many ``times`` as
    many cores."""

    component: str
    before: str
    after: str
    times: float


@dataclass(frozen=True)
class About:
    """What a study is of: the plan's document, what runs know, the terms, and the objectives as phrases; which of the
    runs were played in virtual time, and which components had another size then."""

    told: CapacityPlan
    known: Known
    terms: Terms
    goals: Sequence[str]
    currency: str | None
    unmetered: Sequence[str] = ()
    played: Sequence[int] = ()
    resized: Sequence[Resized] = ()

    def load(self, value: float) -> str:
        return n.load(value, "users") if self.told.counted_in == "users" else n.rate(value)

    @property
    def parts(self) -> tuple[str, ...]:
        return self.known.system.parts

    def money(self, per_hour: float) -> str:
        """What something costs, in instances where they have no price."""
        if self.currency is None:
            return n.counted(round(per_hour), "instance")
        return f"{per_hour:.2f} {self.currency} an hour, {n.figure(per_hour * HOURS_A_MONTH)} {self.currency} a month"


def day(on: date) -> str:
    return f"{on.day} {on:%b %Y}"


def enough_until(told: CapacityPlan, carried: float | None) -> date | None:
    """The last day on which the expected load, with headroom, is at most what is carried; the day before the first
    peak where it is too much even then, and None where it never is."""
    if carried is None:
        return None
    on, last = told.in_order[0].on, told.until
    while on <= last:
        if told.load_on(on) * (1 + told.headroom) > carried:
            return on - timedelta(days=1)
        on += timedelta(days=1)
    return None


def note(study: Study, about: About) -> Note:
    """The answer in a sentence or two."""
    if isinstance(study.plan, Unplanned):
        return _no_plan(study.plan, about)
    peak = about.load(about.terms.peak.value)
    losing = _losing(about.terms.lost)
    grade, title = _title(study, study.plan, about)
    need = ", ".join(
        f"{count} `{part}`"
        for part, count in zip(about.parts, study.plan.counts, strict=True)
        if part not in about.unmetered
    )
    text = f"{peak}{losing} need {need}: {about.money(study.plan.cost)}."
    if study.plan.counts != study.now.counts or study.plan.sizes:
        text += f" That is {added(study.now, study.plan, about.parts)}."
        text += f" What is there now costs {about.money(study.now.cost)} and carries {_now(study, about)}."
    else:
        text += f" It carries {_most(study.now.carried, about)}."
    return Note(kind="capacity", grade=grade, title=title, text=text, details=tuple(_details(study, about)))


def _no_plan(found: Unplanned, about: About) -> Note:
    if found.why == "light":
        goal = about.goals[int(found.subject)]
        title = "No number of instances is enough"
        text = (
            f"“{goal}” is missed where nobody waits, by what the run measured at light load. More instances shorten "
            "waits and nothing else: make the step itself faster, or promise less."
        )
    else:
        title = f"More than {about.terms.most} instances of `{found.subject}` would be needed"
        text = "That is not one system any more. Check the expected load, or what a step costs there."
    return Note(kind="capacity", grade="broken", title=title, text=text)


def _losing(lost: int) -> str:
    if not lost:
        return ""
    return " with one instance of any component lost" if lost == 1 else f" with {lost} instances of any component lost"


def _title(study: Study, plan: Plan, about: About) -> tuple[Grade, str]:
    told = about.told
    begins = told.in_order[0].on
    until, whole = (enough_until(told, load) for load in (study.now.carried, study.now_whole))
    if until is None:
        return "holds", "What is there is enough" + (f" until {day(told.until)}" if told.until > begins else "")
    adds = added(study.now, plan, about.parts)
    short = adds if len(adds) <= SHORT else ""
    if until >= begins:
        return "strained", f"Enough until {day(until)}" + (f"; then {short}" if short else "")
    if whole is None:
        return "strained", "Enough as long as no instance is lost"
    if whole >= begins:
        return "strained", f"Enough until {day(whole)}, as long as no instance is lost"
    return "broken", f"Not enough for {about.load(about.terms.peak.value)}" + (f": {short}" if short else "")


def _now(study: Study, about: About) -> str:
    whole = _most(study.now_whole, about)
    if not about.terms.lost:
        return whole
    less = "nothing" if study.now.carried == 0 else _most(study.now.carried, about)
    return f"{whole} while all of it is there, {less} with {_lost(about.terms.lost)}"


def _lost(lost: int) -> str:
    return "one instance lost" if lost == 1 else f"{lost} instances lost"


def _most(load: float | None, about: About) -> str:
    return "more than any load looked at" if load is None else f"at most {about.load(load)}"


def added(before: Plan, plan: Plan, parts: Sequence[str]) -> str:
    """What a plan adds to and takes from what is there: "one more each of `gateway` and `planner`"."""
    by_change: dict[int, list[str]] = {}
    found = []
    for part, now, after in zip(parts, before.counts, plan.counts, strict=True):
        size = plan.sizes.get(part)
        if size != before.sizes.get(part):
            found.append(f"`{part}` as {after} × {size.name if size else 'the size of now'}")
        elif after != now:
            by_change.setdefault(after - now, []).append(f"`{part}`")
    for change, names in by_change.items():
        each = "each of " if len(names) > 1 else ""
        found.append(f"{_count(abs(change))} {'more' if change > 0 else 'fewer'} {each}{_listed(names)}")
    return _listed(found)


def _listed(names: Sequence[str]) -> str:
    return f"{', '.join(names[:-1])} and {names[-1]}" if len(names) > 1 else "".join(names)


def _count(number: int) -> str:
    words = ("no", "one", "two", "three", "four", "five", "six")
    return words[number] if number < len(words) else str(number)


def _details(study: Study, about: About) -> list[str]:
    found = []
    first = next(iter(study.ceilings), None)
    if first is not None and first.load is not None:
        found.append(f"With the plan `{first.component}` gives out next, past {about.load(first.load)}.")
    doubled = study.doubled
    assert isinstance(study.plan, Plan)  # by the caller
    if isinstance(doubled, Plan):
        adds = added(study.plan, doubled, about.parts)
        found.append(f"Twice the peak needs {adds or 'nothing'} besides: {about.money(doubled.cost)}.")
    elif doubled.why == "most":
        found.append(f"Twice the peak needs more than {about.terms.most} instances of `{doubled.subject}`.")
    return found


def unknown(about: About, rate: float) -> list[str]:
    """What the plan cannot know."""
    known, found = about.known, []
    tried = known.tested_rate
    if rate > TRIED_ENOUGH * tried:
        found.append(
            f"The peak makes {n.rate(rate)}, {n.figure(rate / tried)} times as many as were ever measured "
            f"({n.rate(tried)}): what gives out between is not known."
        )
    if about.played:
        runs = ", ".join(f"run {number}" for number in about.played)
        found.append(f"It rests on {runs}, which came with the product: a simulation, not a measurement.")
    for one in about.resized:
        found.append(
            f"`{one.component}` was measured as {one.before or 'another type'}; {one.after or 'the type of today'} is "
            f"taken to do {n.figure(one.times)} times as much, by its cores."
        )
    if about.unmetered:
        names = ", ".join(f"`{name}`" for name in about.unmetered)
        found.append(f"No demand is known of {names}: left as it is, and taken never to be the limit.")
    if known.light_use > 1.2 * LIGHT:
        found.append(
            f"At the lightest level something was {n.percent(known.light_use)} busy already, so some waits count as "
            "the steps' own time: the plan is on the safe side."
        )
    if known.left_out:
        names = ", ".join(known.left_out[:4]) + (" and others" if len(known.left_out) > 4 else "")
        found.append(f"With too few answers to be counted on: {names}.")
    if not known.by_servers:
        found.append(
            "Which step asks how much of which component is guessed by how long it takes and where it waits, as the "
            "run has no times that servers tell: another mix is foretold roughly."
        )
    found.append(
        "Instances are taken to share their work well. Where each has a queue of its own, steps wait longer near the "
        "end; locks, caches and whatever has no meter may give out before."
    )
    return found


def pools(study: Study, about: About) -> list[str]:
    """What is to be said of pools, whose places do not come with instances."""
    found = []
    for pool, use in zip(about.known.pools, study.doing.pools if study.doing else (), strict=False):
        name = resource_text(pool.key)
        if use > FULL_POOL:
            places = n.users(pool.places * use / FULL_POOL)
            found.append(
                f"{name}: {n.percent(use)} of its {n.users(pool.places)} places in use. Give it {places} or more."
            )
        else:
            found.append(f"{name}: {n.percent(use)} of its {n.users(pool.places)} places in use.")
    return found


def alternative(one: Alternative) -> str:
    if one.kind == "as now":
        return "Sizes as they are"
    if one.kind == "one more":
        return "One more of each"
    assert one.size is not None  # by its kind
    return f"`{one.size.component}` as {one.size.name}"


def otherwise(one: What) -> str:
    percent = n.percent(OTHERWISE)
    if one.kind == "mix":
        return f"{percent} more of the steps are {one.journey}"
    return {
        "load": f"{percent} more load",
        "demands up": f"A step costs {percent} more everywhere",
        "demands down": f"A step costs {percent} less everywhere",
        "think": "People think half as long",
    }[one.kind]


def sizes_of(plan: Plan, present: Mapping[str, str]) -> dict[str, str]:
    """The size of each component in a plan, by name."""
    return {**present, **{part: size.name for part, size in plan.sizes.items()}}
