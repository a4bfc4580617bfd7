"""One step of a run against load: what it took at each level, with what, and from where on it fails its objective."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from ninja import Schema

from stonekettle.core.levels import Level
from stonekettle.core.types import IntArray
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import components, levels, steps, timings
from stonekettle.server.runs.components import ComponentMean
from stonekettle.server.runs.levels import Held
from stonekettle.server.runs.models import Goal, Run
from stonekettle.server.runs.search import PERCENTS, Chosen, Filter, Together

PHASES = ("dns", "connect", "tls", "sent", "first_byte", "total")
LEAST_S = 1e-7
"""Records are in µs: what is less is what adding up leaves."""
PHASE_NAMES = ("lookup", "connect", "tls", "sending", "waiting", "receiving")


class PhaseMean(Schema):
    """A phase of the main request and its mean (s); ``files`` is what the step waited for beyond its main request."""

    phase: str
    mean_s: float


class ServerMean(Schema):
    """The mean time (s) that responses told of under a name (``Server-Timing``)."""

    name: str
    mean_s: float


class GoalAt(Schema):
    """An objective at a level; unknown where too little was measured there."""

    value_s: float | None
    holds: bool | None


class StepAtLevel(Schema):
    """The step at a level, times in s of what succeeded: in the seconds of the level that count, or, before the run is
    analysed, in all of them."""

    level: str
    number: int
    from_s: int
    until_s: int
    load: float
    count: int
    errors: int
    mean_s: float | None
    p50_s: float | None
    p95_s: float | None
    p99_s: float | None
    phases: list[PhaseMean]
    servers: list[ServerMean]
    components: list[ComponentMean]
    goals: list[GoalAt]


class GoalOfStep(Schema):
    """An objective of the step: so many percent within a limit. ``fails_from`` is the place of the level from which it
    is missed at every higher load, ``missed`` those of levels below at which it was missed all the same."""

    percent: float
    limit_s: float
    fails_from: int | None
    missed: list[int]


class StepPage(Schema):
    """A step over the levels of a run, in order of load."""

    id: str
    name: str
    journey: str
    axis: str
    levels: list[StepAtLevel]
    goals: list[GoalOfStep]


def of(run: Run, selection: str, seconds: int) -> StepPage:
    """Raises :class:`Conflict` where the run has no such step."""
    ids = run.layout.step_ids
    found = next((number for number, (j, s) in enumerate(run.plan.steps) if ids[j.name, s.name] == selection), None)
    if found is None:
        raise Conflict(f"Run {run.pk} has no step that is called {selection!r}.")
    journey, step = run.plan.steps[found]
    held, measured = levels.of(run, seconds), levels.measured(run)
    place = _places(held, measured, seconds)
    chosen = Chosen(run, Filter(steps=(found,), seconds=place > 0, counting="steps"))
    told = {one.key[0]: one for one in chosen.together(["level"], {"level": place})}
    phases, servers = _phases(run, found, place, told), _servers(run, found, place)
    through = components.by_level(run, found, place)
    goals = [goal for goal in run.goals if goal.selection == selection]
    further = _further(chosen, place, [goal.percent for goal in goals])
    lines = []
    for level in sorted(held, key=lambda one: one.load):
        own = next((one for one in measured if one.number == level.number), None)
        figures = _figures(own, found, told.get(level.number))
        lines.append(
            StepAtLevel(
                level=level.name,
                number=level.number,
                from_s=math.ceil(level.start_s),
                until_s=math.floor(level.end_s),
                load=level.load,
                phases=phases.get(level.number, []),
                servers=servers.get(level.number, []),
                components=through.get(level.number, []),
                goals=[_goal_at(goal, figures, further.get((level.number, goal.percent))) for goal in goals],
                **vars(figures),
            )
        )
    return StepPage(
        id=selection,
        name=step.name,
        journey=journey.name,
        axis="arrivals/s" if held and held[0].kind == "arrivals" else "users",
        levels=lines,
        goals=[_over_levels(goal, [line.goals[k] for line in lines]) for k, goal in enumerate(goals)],
    )


def _places(held: Sequence[Held], measured: Sequence[Level], seconds: int) -> IntArray:
    """The level that each second counts for, 0 for none."""
    if not measured:
        return levels.by_second(held, seconds)
    found = np.zeros(seconds, dtype=np.int64)
    for level in measured:
        for start, end in level.spans:
            found[start:end] = level.number
    return found


def _further(chosen: Chosen, place: IntArray, percents: Sequence[float]) -> dict[tuple[int, float], float]:
    """By level those percentiles that are not among the usual ones (s), from single requests."""
    wanted = [percent for percent in percents if percent not in PERCENTS]
    if not wanted or not chosen.total:
        return {}
    level = place[chosen.column("second").astype(np.int64)][~chosen.failed]
    times_s = chosen.total_us[~chosen.failed] / 1e6
    return {
        (number, percent): float(np.percentile(times_s[level == number], percent))
        for number in np.unique(level).tolist()
        for percent in wanted
    }


def _phases(run: Run, step: int, place: IntArray, told: Mapping[int, Together]) -> dict[int, list[PhaseMean]]:
    """By level the mean of each phase, from the main requests that succeeded."""
    wanted = Filter(steps=(step,), seconds=place > 0, failed=False, parts=(0,))
    requests = Chosen(run, wanted)
    if not requests.total:
        return {}
    level = place[requests.column("second").astype(np.int64)]
    count = np.bincount(level)
    ends = [np.bincount(level, requests.column(f"{name}_us")) / np.maximum(count, 1) / 1e6 for name in PHASES]
    found: dict[int, list[PhaseMean]] = {}
    for number in np.flatnonzero(count).tolist():
        means, before = [], 0.0
        for name, end in zip(PHASE_NAMES, (float(one[number]) for one in ends), strict=True):
            means.append(PhaseMean(phase=name, mean_s=max(0.0, end - before)))
            before = max(before, end)
        whole = told[number].mean_s if number in told else math.nan
        beyond = whole - before if math.isfinite(whole) else 0.0
        means.append(PhaseMean(phase="files", mean_s=beyond if beyond > LEAST_S else 0.0))
        found[number] = means
    return found


def _servers(run: Run, step: int, place: IntArray) -> dict[int, list[ServerMean]]:
    """By level what responses of the step told of the time in servers."""
    found: dict[int, list[ServerMean]] = {}
    for (number, name, of), (count, total_s) in sorted(timings.by_level(run, place).items()):
        if of == step:
            found.setdefault(number, []).append(ServerMean(name=name, mean_s=float(total_s / count)))
    return found


@dataclass(frozen=True)
class _Figures:
    count: int
    errors: int
    mean_s: float | None
    p50_s: float | None
    p95_s: float | None
    p99_s: float | None


def _figures(own: Level | None, step: int, told: Together | None) -> _Figures:
    """From the findings, or from the records where there are none yet; means are of the records."""
    mean = steps.known(told.mean_s) if told else None
    found = next((one for one in own.steps if one.step == step), None) if own else None
    if found is not None:
        p50, p95, p99 = (steps.known(value) for value in (found.p50_s, found.p95_s, found.p99_s))
        return _Figures(found.completions, found.errors, mean, p50, p95, p99)
    if told is None:
        return _Figures(0, 0, None, None, None, None)
    p50, p95, p99 = (steps.known(value) for value in told.percentiles_s)
    return _Figures(told.count, told.errors, mean, p50, p95, p99)


def _goal_at(goal: Goal, figures: _Figures, further: float | None) -> GoalAt:
    usual = {50.0: figures.p50_s, 95.0: figures.p95_s, 99.0: figures.p99_s}
    value = usual.get(goal.percent, further)
    return GoalAt(value_s=value, holds=None if value is None else value <= goal.limit_s)


def _over_levels(goal: Goal, at: Sequence[GoalAt]) -> GoalOfStep:
    """From which level on it is missed for good: at all that follow, as far as these are known, and the last among
    them is."""
    fails: int | None = None
    for place in range(len(at) - 1, -1, -1):
        if at[place].holds:
            break
        if at[place].holds is False:
            fails = place
    missed = [place for place, one in enumerate(at) if one.holds is False and (fails is None or place < fails)]
    return GoalOfStep(percent=goal.percent, limit_s=goal.limit_s, fails_from=fails, missed=missed)
