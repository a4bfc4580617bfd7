"""The history of an experiment in words: since when what is slower or faster, and how long it had been the same."""

from __future__ import annotations

import bisect
import math
from collections.abc import Sequence, Set
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

import numpy as np

from stonekettle.core.facts import WHOLE
from stonekettle.core.history import FIRST, Course, Shift, chance_of, course, shifted
from stonekettle.core.types import Estimate
from stonekettle.report import numbers as n
from stonekettle.report.comparing import signed
from stonekettle.report.notes.note import resource_text

Figure = Literal["p95", "demand", "comfort limit", "saturation point", "cost", "error ratio"]
FIGURES: tuple[Figure, ...] = ("p95", "demand", "comfort limit", "saturation point", "cost", "error ratio")
SAME_EVENT = 2
"""Shifts of several figures at most so many runs apart are one event."""
CHANCE = 0.05
ENOUGH = 4
"""So many runs between two changes are compared by themselves."""
SURELY_SEEN = 10 / 3
"""A lasting step of so many standard deviations of a run is found in 97 % of histories of 30 runs."""
NOTHING = "No run of it has findings yet."
LARGER_IS_BETTER = ("comfort limit", "saturation point")


@dataclass(frozen=True)
class Line:
    """One figure over runs, in order of time; None where a run does not know it."""

    subject: str
    figure: Figure
    values: tuple[Estimate | None, ...]

    @property
    def known(self) -> tuple[int, ...]:
        """The places of runs that know it; of ratios only those above nothing."""
        return tuple(place for place, value in enumerate(self.values) if value is not None and value.value > 0)

    @property
    def numbers(self) -> list[float]:
        """The values of those that know it."""
        return [value.value for value in self.values if value is not None and value.value > 0]

    def known_before(self, place: int) -> int:
        """How many of those that know it come before this place."""
        return bisect.bisect_left(self.known, place)


@dataclass(frozen=True)
class Told:
    """A line with its course over the runs that know it; none is looked for in error ratios, which are mostly
    nothing."""

    line: Line
    course: Course | None

    def place(self, among_known: int) -> int:
        """The run in this place among those that know the figure."""
        return self.line.known[among_known]


@dataclass(frozen=True)
class Event:
    """At the run in place ``at`` some figures shifted, the most telling first; there had been no other shift in the
    ``steady`` runs before it."""

    at: int
    steady: int
    shifts: tuple[tuple[Told, Shift], ...]


def told(lines: Sequence[Line], known_changes: Sequence[int] = ()) -> tuple[Told, ...]:
    """The course of each figure, judged together. At runs before which something was changed, and where another
    figure shifted, less is needed than where a shift has to be searched for: there the runs before and after are
    compared, all such places and figures judged together (Holm 1979)."""
    looked_at = {number: line for number, line in enumerate(lines) if line.figure != "error ratio" and _enough(line)}
    cuts = {number: _searched(line, len(looked_at), known_changes) for number, line in looked_at.items()}
    places = sorted({at for found in cuts.values() for at in found} | set(known_changes))
    moved = {at for found in cuts.values() for at in found}
    trials = []
    for number, line in looked_at.items():
        for at in places:
            if not any(abs(at - cut) <= SAME_EVENT for cut in cuts[number]):
                trials.append((_chance(line, *_around(at, places, moved, len(line.values))), number, at))
    trials.sort()
    for place, (chance, number, at) in enumerate(trials):
        if chance >= CHANCE / (len(trials) - place):
            break
        if not any(abs(at - cut) <= SAME_EVENT for cut in cuts[number]):
            cuts[number] = sorted((*cuts[number], at))
    return tuple(
        Told(line, course(line.numbers, [line.known_before(at) for at in cuts[number]]) if number in cuts else None)
        for number, line in enumerate(lines)
    )


def _around(at: int, places: Sequence[int], moved: Set[int], count: int) -> tuple[int, int, int]:
    """The runs before and after a place that are compared: up to the next place on either side at which something
    shifted, or was changed if that leaves enough runs."""
    edges = [place for place in places if place in moved or abs(place - at) >= ENOUGH]
    first = max((place for place in edges if place < at - SAME_EVENT), default=0)
    return first, at, min((place for place in edges if place > at + SAME_EVENT), default=count)


def _enough(line: Line) -> bool:
    return len(line.known) > FIRST


def _searched(line: Line, together: int, known_changes: Sequence[int]) -> list[int]:
    """Where a line shifted: at the change that is known of nearby, if there is one."""
    found = set()
    for cut in shifted(line.numbers, together):
        at = line.known[cut]
        near = [place for place in known_changes if abs(place - at) <= SAME_EVENT]
        found.add(min(near, key=lambda place: abs(place - at), default=at))
    return sorted(found)


def _chance(line: Line, first: int, at: int, end: int) -> float:
    return chance_of(line.numbers, *(line.known_before(place) for place in (first, at, end)))


def events(found: Sequence[Told], known_changes: Sequence[int] = ()) -> tuple[Event, ...]:
    """What happened, in order of time; two changes that are known of are two events."""
    shifts = sorted(
        ((one.place(shift.at), one, shift) for one in found if one.course for shift in one.course.shifts),
        key=lambda told: told[0],
    )
    together: list[list[tuple[int, Told, Shift]]] = []
    for shift in shifts:
        if together and _belongs(shift, together[-1], known_changes):
            together[-1].append(shift)
        else:
            together.append([shift])
    made, before = [], 0
    for group in together:
        group.sort(key=lambda told: (FIGURES.index(told[1].line.figure), -abs(math.log(told[2].ratio.value))))
        # Where several agree, most of them know the run best.
        places = [place for place, _, _ in group]
        at = max(sorted(set(places)), key=places.count)
        made.append(Event(at, at - before, tuple((one, shift) for _, one, shift in group)))
        before = at
    return tuple(made)


def _belongs(
    shift: tuple[int, Told, Shift], event: Sequence[tuple[int, Told, Shift]], known_changes: Sequence[int]
) -> bool:
    at, one, _ = shift
    apart = at in known_changes and any(place in known_changes and place != at for place, _, _ in event)
    return at - event[0][0] <= SAME_EVENT and not apart and all(other is not one for _, other, _ in event)


def sentence(found: Sequence[Told], happened: Sequence[Event], dates: Sequence[datetime]) -> str:
    """The answer: what shifted last and when, what goes with it, and how it was before."""
    if len(dates) <= FIRST:
        counted = n.counted(len(dates), "run")
        return f"{counted} so far: from {FIRST + 1} on it can be told whether something shifted."
    if not happened:
        return f"No change in {n.counted(len(dates), 'run')} since {day(dates[0])}.{_seen(found)}"
    last = happened[-1]
    parts = [change(*last.shifts[0])]
    parts += [f"{change(one, shift)} goes with it" for one, shift in last.shifts[1:] if one.line.figure == "demand"][:1]
    before = f"before that no change in {n.counted(last.steady, 'run')}"
    if len(happened) > 1:
        before += f", since {day(dates[happened[-2].at])}"
    return f"Since {day(dates[last.at])}: {'; '.join(parts)}; {before}."


def _seen(found: Sequence[Told]) -> str:
    noise = [one.course.noise for one in found if one.course and one.line.figure in ("p95", "demand")]
    known = [one for one in noise if math.isfinite(one)]
    if not known:
        return ""
    seen = n.percent(SURELY_SEEN * float(np.median(known)))
    return f" A lasting change of {seen} would have shown in most figures."


def change(one: Told, shift: Shift) -> str:
    """A figure's shift: "Trip search p95 12 % slower (+8 % to +16 %)"."""
    by = abs(shift.ratio.value - 1)
    interval = f"{signed(shift.ratio.low)} to {signed(shift.ratio.high)}"
    return f"{name(one.line)} {n.percent(by)} {_word(one.line.figure, shift.ratio.value > 1)} ({interval})"


def _word(figure: Figure, up: bool) -> str:
    if figure == "p95":
        return "slower" if up else "faster"
    if figure in LARGER_IS_BETTER:
        return "higher" if up else "lower"
    return "more" if up else "less"


def name(line: Line) -> str:
    """What a figure is called: Trip search p95, `ledger` CPU per step, comfort limit."""
    if line.figure == "demand":
        return f"{resource_text(line.subject)} per step"
    if line.subject != WHOLE:
        return f"{line.subject.split(' / ')[-1]} {line.figure}"
    return "Cost of a million steps" if line.figure == "cost" else line.figure.capitalize()


def day(at: datetime) -> str:
    """14 March 2026."""
    return f"{at:%-d %B %Y}"
