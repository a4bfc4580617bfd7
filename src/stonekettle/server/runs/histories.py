"""The history of an experiment: its key figures run by run, from facts alone, and since when what is different."""

from __future__ import annotations

import json
import math
import statistics
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db.models import QuerySet
from ninja import Schema

from stonekettle.core.facts import WHOLE
from stonekettle.core.sampling import Weights, levels_near
from stonekettle.core.types import Estimate
from stonekettle.engine.lifecycle import ENDED
from stonekettle.plan.differences import WORDING, differences, own_ports_alike
from stonekettle.plan.parts import PRACTICE
from stonekettle.report import history as words
from stonekettle.report.history import Event, Line, Told
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs.comparisons import Ratio, described
from stonekettle.server.runs.models import Run, RunFact

MOST_RUNS = 400
"""The newest of more are looked at."""
COMMON = 0.8
"""A load that this share of the runs had can be the one at which they are compared."""
NORMAL_95 = 1.96
A_MILLION = 1e6


class HistoryRun(Schema):
    """A run in the history; ``left_out`` of the figures for the reason given, if any."""

    id: int
    at: datetime
    state: str
    seeded: bool
    remark: str
    left_out: str
    baseline: bool


class StretchLine(Schema):
    """The figure's level from run ``first`` to run ``last``, and the band within which single runs scatter."""

    first: int
    last: int
    level: Ratio
    band: Ratio


class FigureHistory(Schema):
    """A figure over the runs that know it, each value with the ends of its 95 % interval: in seconds, users, shares or
    money, as ``figure`` says. Its ``shifted`` runs are those at which it became another."""

    name: str
    subject: str
    figure: words.Figure
    runs: list[int]
    value: list[float]
    low: list[float]
    high: list[float]
    stretches: list[StretchLine]
    shifted: list[int]


class EventLine(Schema):
    """What happened at a run: ``changes`` of figures, and what was ``different`` in its plan or system."""

    run: int
    at: datetime
    changes: list[str]
    different: list[str]


class HistoryAnswer(Schema):
    """An experiment's history. Response times, errors and cost are at ``load``, one of the ``loads`` most of its runs
    had. So many ``earlier`` runs are not looked at."""

    experiment_id: int
    experiment: str
    sentence: str
    unit: str
    currency: str
    load: float | None
    loads: list[float]
    runs: list[HistoryRun]
    earlier: int
    figures: list[FigureHistory]
    events: list[EventLine]


@dataclass(frozen=True)
class _Series:
    """Runs that are judged together, in order of time, with what they know."""

    runs: Sequence[Run]
    told: Sequence[Told]
    happened: Sequence[Event]


def of(experiment: Experiment, load: float | None = None) -> HistoryAnswer:
    """The history of an experiment. Measured runs and those that came with the product are judged apart: they are not
    of one system."""
    ended = [state.value for state in ENDED]
    standing = (
        Run.objects.standing().of_experiment(experiment.pk).filter(turn="", state__in=ended, result__isnull=False)
    )
    found = standing.defer("result", "whole_result").order_by("-queued_at", "-pk")[:MOST_RUNS]
    runs = sorted(found, key=lambda run: (run.queued_at, run.pk))
    counted = [run for run in runs if not run.left_out]
    loads = _loads([run.pk for run in counted])
    common = _common(loads)
    chosen = load if load in common else _reference(common, [run.pk for run in counted])
    figures = _figures(counted, loads, chosen)
    kinds = [_series(own, figures) for own in _apart(counted)]
    said = max(kinds, key=lambda one: (len(one.runs), not one.runs[0].seeded), default=None)
    base = set(experiment.baselines.filter(until=None).values_list("run_id", flat=True))
    plan = experiment.current.plan
    return HistoryAnswer(
        experiment_id=experiment.pk,
        experiment=experiment.name,
        sentence=words.sentence(said.told, said.happened, [run.queued_at for run in said.runs])
        if said
        else words.NOTHING,
        unit="users" if plan.planned.load_kind == "users" else "arrivals/s",
        currency=plan.system.currency,
        load=chosen,
        loads=common,
        runs=[
            HistoryRun(
                id=run.pk,
                at=run.queued_at,
                state=run.state,
                seeded=run.seeded,
                remark=run.remark,
                left_out=run.left_out,
                baseline=run.pk in base,
            )
            for run in runs
        ],
        earlier=max(0, standing.count() - MOST_RUNS),
        figures=_shown(sorted(kinds, key=lambda one: one is not said)),
        events=[event for one in kinds for event in _events(one)],
    )


def _apart(runs: Sequence[Run]) -> list[list[Run]]:
    kinds = ([run for run in runs if not run.seeded], [run for run in runs if run.seeded])
    return [kind for kind in kinds if kind]


def _series(runs: Sequence[Run], figures: Mapping[int, Mapping[_Key, Estimate]]) -> _Series:
    changed = _changed(runs)
    told = words.told(_lines(runs, figures), changed)
    return _Series(runs, told, words.events(told, changed))


def _changed(runs: Sequence[Run]) -> list[int]:
    """The places of runs whose system was described differently from that of the run before."""
    described = [_description(run) for run in runs]
    return [place for place in range(1, len(runs)) if described[place] != described[place - 1]]


def _description(run: Run) -> str:
    """The system's description, comparable at a glance: what listens where in the practice system is not in it."""
    told = json.dumps(run.plan_document["system"], sort_keys=True)
    return own_ports_alike(told) if run.target == PRACTICE else told


def _loads(runs: Sequence[int]) -> dict[int, dict[int, float]]:
    """The loads of each run's levels."""
    found: dict[int, dict[int, float]] = {run: {} for run in runs}
    facts = RunFact.objects.filter(run__in=runs, figure="load", subject=WHOLE, level__isnull=False, value__gt=0)
    for run, level, _, _, load in _rows(facts):
        found[run][level] = load.value
    return found


def _common(loads: Mapping[int, Mapping[int, float]]) -> list[float]:
    """Loads that most of the runs had or have on both sides, rounded as loads are."""
    wanted = sorted({_rounded(load) for own in loads.values() for load in own.values()})
    least = COMMON * len(loads)
    return [load for load in wanted if sum(levels_near(own, load) is not None for own in loads.values()) >= least]


def _rounded(load: float) -> float:
    return float(round(load)) if load >= 20 else round(load, 1)


def _reference(common: Sequence[float], runs: Sequence[int]) -> float | None:
    """The highest common load at which the objectives mostly hold."""
    limits = RunFact.objects.filter(run__in=runs, level=None, figure__in=("comfort limit", "saturation point"))
    by_figure: dict[str, list[float]] = {}
    for _, _, _, figure, value in _rows(limits):
        by_figure.setdefault(figure, []).append(value.value)
    limit = next((by_figure[name] for name in ("comfort limit", "saturation point") if name in by_figure), None)
    if limit is not None:
        below = [load for load in common if load <= statistics.median(limit)]
        return below[-1] if below else next(iter(common), None)
    return common[-1] if common else None


_Key = tuple[str, words.Figure]
_Row = tuple[int, int, str, str, Estimate]
"""Of a run, at a level (0: of all of it), of a subject: a figure."""
_WHOLE_FIGURES: Mapping[str, words.Figure] = {
    "comfort limit": "comfort limit",
    "saturation point": "saturation point",
    "demand": "demand",
}
_COST = "cost per hour"


def _figures(
    runs: Sequence[Run], loads: Mapping[int, Mapping[int, float]], load: float | None
) -> dict[int, dict[_Key, Estimate]]:
    """What each run knows: of all of it, and at the load."""
    found: dict[int, dict[_Key, Estimate]] = {run.pk: {} for run in runs}
    hourly: dict[int, float] = {}
    of_runs = RunFact.objects.filter(run__in=found)
    for run, _, subject, figure, value in _rows(of_runs.filter(level=None, figure__in=[*_WHOLE_FIGURES, _COST])):
        if figure == _COST:
            hourly[run] = value.value
        else:
            found[run][subject, _WHOLE_FIGURES[figure]] = value
    near = {run: levels_near(own, load) for run, own in loads.items()} if load is not None else {}
    weights = {run: levels for run, levels in near.items() if levels is not None}
    at_load = of_runs.filter(run__in=weights, level__in={level for own in weights.values() for level, _ in own})
    told: dict[int, dict[tuple[str, str], dict[int, Estimate]]] = {}
    for rows in (at_load.filter(figure="p95"), at_load.filter(subject=WHOLE, figure__in=("throughput", "error ratio"))):
        for run, level, subject, figure, value in _rows(rows):
            told.setdefault(run, {}).setdefault((subject, figure), {})[level] = value
    for run, own in told.items():
        mixed = {key: at for key, values in own.items() if (at := _mixed(values, weights[run])) is not None}
        found[run] |= {(subject, "p95"): value for (subject, figure), value in mixed.items() if figure == "p95"}
        if (ratio := mixed.get((WHOLE, "error ratio"))) is not None:
            found[run][WHOLE, "error ratio"] = ratio
        if (rate := mixed.get((WHOLE, "throughput"))) is not None and run in hourly and rate.low > 0:
            cost = hourly[run] / 3600 * A_MILLION
            found[run][WHOLE, "cost"] = Estimate(cost / rate.value, cost / rate.high, cost / rate.low, rate.confidence)
    return found


def _rows(facts: QuerySet[RunFact]) -> Iterator[_Row]:
    rows = facts.filter(value__isnull=False)
    for run, level, subject, figure, value, error in rows.values_list(
        "run_id", "level", "subject", "figure", "value", "standard_error"
    ):
        reach = NORMAL_95 * (error or 0.0)
        known = value or 0.0
        yield run, level or 0, subject, figure, Estimate(known, max(0.0, known - reach), known + reach, 0.95)


def _mixed(values: Mapping[int, Estimate], weights: Weights) -> Estimate | None:
    """Between two levels, by their weights, in the log where there is one."""
    if any(level not in values for level, _ in weights):
        return None
    parts = [(weight, values[level]) for level, weight in weights]
    if len(parts) == 1:
        return parts[0][1]
    there, back = (math.log, math.exp) if all(part.low > 0 for _, part in parts) else (float, float)

    def between(end: str) -> float:
        return back(sum(weight * there(getattr(part, end)) for weight, part in parts))

    return Estimate(between("value"), between("low"), between("high"), parts[0][1].confidence)


def _lines(runs: Sequence[Run], figures: Mapping[int, Mapping[_Key, Estimate]]) -> list[Line]:
    keys = {key for run in runs for key in figures[run.pk]}
    return [
        Line(subject, figure, tuple(figures[run.pk].get((subject, figure)) for run in runs))
        for subject, figure in sorted(keys, key=lambda key: (words.FIGURES.index(key[1]), key[0]))
    ]


def _shown(kinds: Sequence[_Series]) -> list[FigureHistory]:
    """Each figure once, those of all kinds of runs together; what shifted last stands first."""
    found: dict[_Key, FigureHistory] = {}
    for series in kinds:
        for one in series.told:
            line = one.line
            shown = found.setdefault(
                (line.subject, line.figure),
                FigureHistory(
                    name=words.name(line),
                    subject=line.subject,
                    figure=line.figure,
                    runs=[],
                    value=[],
                    low=[],
                    high=[],
                    stretches=[],
                    shifted=[],
                ),
            )
            for run, value in zip(series.runs, line.values, strict=True):
                if value is not None:
                    shown.runs.append(run.pk)
                    shown.value.append(value.value)
                    shown.low.append(value.low)
                    shown.high.append(value.high)
            if one.course is not None:
                shown.stretches += [
                    StretchLine(
                        first=series.runs[one.place(stretch.first)].pk,
                        last=series.runs[one.place(stretch.last)].pk,
                        level=_ratio(stretch.level),
                        band=Ratio(
                            value=stretch.level.value,
                            low=stretch.level.value / (1 + one.course.noise) ** NORMAL_95,
                            high=stretch.level.value * (1 + one.course.noise) ** NORMAL_95,
                        ),
                    )
                    for stretch in one.course.stretches
                ]
                shown.shifted += [series.runs[one.place(shift.at)].pk for shift in one.course.shifts]
    said = [
        (one.line.subject, one.line.figure)
        for series in kinds
        for event in reversed(series.happened)
        for one, _ in event.shifts
    ]
    order = {key: place for place, key in enumerate(dict.fromkeys(said))}
    return sorted(
        found.values(),
        key=lambda one: (
            order.get((one.subject, one.figure), len(order)),
            words.FIGURES.index(one.figure),
            one.subject,
        ),
    )


def _events(series: _Series) -> Iterator[EventLine]:
    for event in series.happened:
        run, before = series.runs[event.at], series.runs[max(0, event.at - 1)]
        changes = [words.change(one, shift) for one, shift in event.shifts]
        different = [line for line in differences(described(before), described(run)) if line != WORDING]
        yield EventLine(run=run.pk, at=run.queued_at, changes=changes, different=different)


def _ratio(estimate: Estimate) -> Ratio:
    return Ratio(value=estimate.value, low=estimate.low, high=estimate.high)
