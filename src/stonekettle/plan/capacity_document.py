"""The capacity plan's own document: which peaks are expected of a system, and what is asked of it then."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import Field

from stonekettle.plan.checking import parse, plain, validated
from stonekettle.plan.parts import Name, Part
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.quantities import Duration, Share

DAYS_A_YEAR = 365.25
FURTHEST_YEARS = 20
MOST_LOAD = 1e7
Factor = Annotated[float, Field(gt=0, le=1_000)]


class ExpectedPeak(Part):
    """So many users at a time, or steps per second, are expected on a day."""

    on: date
    load: float = Field(gt=0, le=MOST_LOAD)
    note: str = Field(default="", max_length=200)


class Growth(Part):
    """From the last peak on it grows by a share each year, until a day."""

    by: Share
    until: date


class Size(Part):
    """Another size that instances of a component can have: so many ``times`` what they have now."""

    component: Name
    name: Name
    times: Factor
    price_per_hour: float = Field(ge=0, le=1e6)


class CapacityPlan(Part):
    """What a system has to bear: the highest of its ``peaks`` and of what they grow to, with ``headroom`` above it, and
    ``lost`` instances of any one component gone. It rests on ``runs``; none: on the newest one that can carry it. Peaks
    are off by ``uncertain`` (a standard deviation). The ``mix`` are weights of journeys, ``think`` the time between two
    steps; both as in the run where nothing is said. At least ``least`` instances of a component are there in any case.
    """

    name: Name
    system: Name
    runs: tuple[Annotated[int, Field(ge=1)], ...] = Field(default=(), max_length=10)
    counted_in: Literal["users", "steps"] = "users"
    peaks: tuple[ExpectedPeak, ...] = Field(min_length=1, max_length=60)
    growth: Growth | None = None
    headroom: Share = 0.0
    uncertain: Share = 0.0
    lost: int = Field(default=1, ge=0, le=5)
    think: Duration | None = Field(default=None, ge=0, le=3_600)
    mix: dict[Name, Annotated[float, Field(ge=0, le=1e6)]] = Field(default_factory=dict, max_length=100)
    least: dict[Name, Annotated[int, Field(ge=1, le=1_000)]] = Field(default_factory=dict, max_length=200)
    sizes: tuple[Size, ...] = Field(default=(), max_length=40)
    notes: str = Field(default="", max_length=5_000)

    @property
    def in_order(self) -> tuple[ExpectedPeak, ...]:
        return tuple(sorted(self.peaks, key=lambda peak: peak.on))

    @property
    def until(self) -> date:
        """The last day that it looks at."""
        last = self.in_order[-1].on
        return max(last, self.growth.until) if self.growth else last

    def load_on(self, day: date) -> float:
        """The load expected on a day, without headroom: between two peaks on a straight line, before the first as much
        as then, and after the last one grown."""
        peaks = self.in_order
        if day <= peaks[0].on:
            return peaks[0].load
        for one, after in pairwise(peaks):
            if day <= after.on:
                share = (day - one.on).days / max(1, (after.on - one.on).days)
                return one.load + share * (after.load - one.load)
        if self.growth is None:
            return peaks[-1].load
        grown = min(day, self.growth.until) - peaks[-1].on
        return float(peaks[-1].load * (1 + self.growth.by) ** (max(0, grown.days) / DAYS_A_YEAR))

    @property
    def highest(self) -> ExpectedPeak:
        """The highest load that is expected, with its day, without headroom."""
        # What it grows to may be more than can be told, which is for the checks to say.
        grown = ExpectedPeak.model_construct(on=self.until, load=self.load_on(self.until), note="")
        every = [*self.in_order, grown]
        return max(every, key=lambda peak: peak.load)


def read(text: str) -> CapacityPlan:
    """A capacity plan from YAML or JSON text. Raises :class:`PlanError` with every problem found."""
    return from_document(parse(text))


def from_document(document: object) -> CapacityPlan:
    """A capacity plan from plain data, checked as a whole."""
    if not isinstance(document, Mapping):
        raise PlanError([Problem("document", "this is not a capacity plan.", "Start with 'name:' and 'system:'.")])
    told = validated(CapacityPlan, document)
    problems = list(_inconsistencies(told))
    if problems:
        raise PlanError(problems)
    return told


def stored(document: Mapping[str, Any]) -> CapacityPlan:
    """A plan that was checked when it was kept; rules that came later do not make it unreadable."""
    return validated(CapacityPlan, document)


def to_document(told: CapacityPlan) -> dict[str, Any]:
    """Plain data that :func:`from_document` reads back as the same plan."""
    return plain(told)


def json_schema() -> dict[str, Any]:
    """JSON Schema (2020-12) of the document."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **CapacityPlan.model_json_schema()}


def unknown(told: CapacityPlan, components: Sequence[str], journeys: Sequence[str]) -> Iterable[Problem]:
    """What it names that its system, or the run it rests on, has not."""
    for k, size in enumerate(told.sizes):
        if size.component not in components:
            yield _missing(f"sizes[{k}].component", "component", size.component, components)
    for name in told.least:
        if name not in components:
            yield _missing("least", "component", name, components)
    for name in told.mix:
        if name not in journeys:
            yield _missing("mix", "journey", name, journeys)


def _missing(path: str, what: str, name: str, known: Sequence[str]) -> Problem:
    return Problem(path, f"there is no {what} named {name!r}.", f"There are: {', '.join(known) or 'none'}.")


def _inconsistencies(told: CapacityPlan) -> Iterable[Problem]:
    days = [peak.on for peak in told.peaks]
    for k, day in enumerate(days):
        if day in days[:k]:
            yield Problem(f"peaks[{k}].on", f"{day} is there twice.", "Give each day one peak.")
    if told.growth is not None and told.growth.until <= max(days):
        mend = f"Choose a day after {max(days)}."
        yield Problem("growth.until", f"{told.growth.until} is not after the last peak.", mend)
    if (told.until - min(days)).days > FURTHEST_YEARS * DAYS_A_YEAR:
        message = f"{told.until} is over {FURTHEST_YEARS} years after the first peak."
        yield Problem("growth.until" if told.growth else "peaks", message, "Choose an earlier day.")
    if told.highest.load > MOST_LOAD:
        yield Problem(
            "growth.by", f"it would grow to {told.highest.load:.3g}.", "Choose less growth or an earlier day."
        )
    if told.mix and not any(told.mix.values()):
        yield Problem("mix", "all weights are 0.", "Give one journey a weight.")
    names = [(size.component, size.name) for size in told.sizes]
    for k, name in enumerate(names):
        if name in names[:k]:
            mend = "Give each size of a component its own name."
            yield Problem(f"sizes[{k}].name", f"{name[1]!r} of {name[0]!r} is there twice.", mend)
