"""How each conclusion was computed: its formula with the run's own numbers, the data, the source, and its limits."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from pydantic import BaseModel, ConfigDict

from stonekettle.core import laws, levels, objectives, saturation
from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.headroom import PeakIn
from stonekettle.core.load import NAMES, LoadKind
from stonekettle.core.objectives import BreakingPoint, ComfortLimit, ObjectiveResult
from stonekettle.core.saturation import Saturation
from stonekettle.plan.models import Plan
from stonekettle.report import numbers as n
from stonekettle.report.notes.comfort import objective_text
from stonekettle.report.notes.note import resource_text, span


class Number(BaseModel):
    """A number of the run that went into a formula."""

    model_config = ConfigDict(frozen=True)

    symbol: str
    says: str
    value: str


class Explained(BaseModel):
    """How the note of a ``kind`` was computed: ``formula`` in symbols, the run's ``numbers`` for them and what they
    make in ``worked``, the ``data`` used, the ``source`` and what it does not know, its ``limits``."""

    model_config = ConfigDict(frozen=True)

    kind: str
    formula: str
    numbers: tuple[Number, ...]
    worked: str
    data: str
    source: str
    limits: tuple[str, ...]


def _number(symbol: str, says: str, value: str) -> Number:
    return Number(symbol=symbol, says=says, value=value)


def explain(kind: str, analysis: Analysis, plan: Plan, peak: tuple[float, PeakIn] | None = None) -> Explained | None:
    """How the conclusion of a kind was computed; None where the run has none that was computed."""
    if kind == "headroom":
        return _headroom(analysis, peak) if peak is not None else None
    found = _EXPLAINED.get(kind)
    return found(analysis, plan) if found else None


def _used(analysis: Analysis) -> str:
    """The data that every conclusion rests on."""
    told = analysis.levels
    seconds = sum(level.seconds_used for level in told)
    left_out = sum(level.seconds_left_out for level in told)
    steps = n.counted(sum(level.completions for level in told), "step")
    out = f"; {n.counted(left_out, 'second')} with gaps or off the ordered load left out" if left_out else ""
    return (
        f"{n.counted(len(told), 'level')} after warm-up, {n.counted(seconds, 'second')} with {steps} that ended{out}."
    )


def _comfort(analysis: Analysis, plan: Plan) -> Explained | None:
    found = analysis.comfort
    if not isinstance(found, ComfortLimit):
        return None
    deciding = next((one for one in found.results if one.objective == found.deciding), found.results[0])
    goal = deciding.objective
    rows = _at_levels(deciding, analysis.load_kind)
    worked = (
        f"It crosses the objective at {n.load(found.load.value, analysis.load_kind)}, {span(found.load)}."
        if found.load is not None and found.status == "found"
        else "It lies on one side of the objective at every level."
    )
    return Explained(
        kind="comfort",
        formula="the lowest load N at which an objective's figure, read from the levels, passes its limit",
        numbers=(_number("limit", objective_text(goal, plan), _value(goal.limit, goal)), *rows),
        worked=worked,
        data=_used(analysis),
        source="Crossing of a monotone curve through the levels (isotonic regression, Barlow et al. 1972), near it "
        "along the closed network's response curve (Buzen 1973); standard errors from 5-second blocks (Conway 1963).",
        limits=(
            "Below the lowest level nothing was measured: where that misses already, the limit may lie anywhere there.",
            f"Where measuring alone spreads it by over {n.percent(objectives.MOST_BLUR)}, it is not claimed.",
            "Levels too short for the longest queues make it lie lower than it reads; the interval allows for that.",
        ),
    )


def _at_levels(result: ObjectiveResult, kind: LoadKind) -> tuple[Number, ...]:
    return tuple(
        _number("", f"at {n.load(load, kind)}", _value(value, result.objective))
        for load, value in zip(result.level_loads, result.values, strict=True)
    )


def _value(value: float, goal: objectives.Objective) -> str:
    if value != value:  # nothing is known there
        return "–"
    if goal.kind == "errors":
        return n.percent(value)
    return n.figure(value) if goal.kind == "apdex" else n.seconds(value)


def _saturation(analysis: Analysis, plan: Plan) -> Explained | None:
    found = analysis.saturation
    if not isinstance(found, Saturation) or len(analysis.levels) < saturation.MIN_LEVELS:
        return None
    limits = (
        "It is claimed only where it was passed and half the interval of X_max is under "
        f"{n.percent(saturation.WIDEST)}.",
        "A small system approaches its limit slowly: the point is where its two straight lines would meet, and "
        "throughput bends before it.",
        "Throughput counts steps that succeeded; the mix of steps is taken to be the planned one.",
    )
    source = (
        "Asymptotic bounds (Denning & Buzen 1978, Lazowska et al. 1984); the curve of the closed network (Buzen 1973)."
    )
    if found.status != "reached" or found.throughput is None or found.load is None:
        return Explained(
            kind="saturation",
            formula="reached, where the highest load passed N* = X_max · (R₁ + Z) and throughput stopped growing",
            numbers=(
                _number("X", "the highest throughput of a level", n.rate(found.reached)),
                _number(
                    "e",
                    "what further load still brought over the last levels, as a share of the first",
                    f"{n.percent(max(found.efficiency, 0))}, at most {n.percent(max(found.efficiency_upper, 0))}",
                ),
            ),
            worked=f"It was not claimed up to {n.load(found.at_least, analysis.load_kind)}."
            if found.status != "peaked"
            else "Throughput falls beyond its peak, so there is no plateau to compute a point from.",
            data=_used(analysis),
            source=source,
            limits=limits,
        )
    share, _ = levels.usual_success(analysis.levels)
    lowest = min(analysis.levels, key=lambda level: level.load.delivered)
    arrivals = analysis.load_kind == "arrivals"
    limit = found.throughput
    each = found.load.value / limit.value
    numbers = [
        _number(
            "X_max",
            "the limit of throughput, from all levels and the fullest resource",
            f"{n.rate(limit.value)} ({n.figure(limit.low)}–{n.figure(limit.high)})",
        )
    ]
    if arrivals:
        numbers.append(_number("v", "steps that one arrival brings", n.figure(1 / each)))
        formula, terms = "N* = X_max / v", f"{n.figure(limit.value)} / {n.figure(1 / each)}"
    else:
        numbers += [
            _number("R₁", "the response of a lone step", n.seconds(found.light_response_s)),
            _number(
                "b₁",
                "blind time at the lowest level, half of it ours",
                n.seconds(lowest.blind_s),
            ),
            _number("Z", "think time for each step", n.seconds(found.think_s)),
            _number("s", "share of steps that succeed at light load", n.percent(share)),
        ]
        formula = "N* = X_max · (R₁ − b₁/2 + Z) / s"
        lone = found.light_response_s - lowest.blind_s / 2
        cycle = f"({n.figure(lone)} s + {n.figure(found.think_s)} s)"
        terms = f"{n.figure(limit.value)} · {cycle} / {n.figure(share)}"
    told = f" Of what is known of X_max {n.percent(found.plateau_share)} comes from the levels"
    rest = f", the rest from the utilisation law of {resource_text(found.resource)}." if found.resource else "."
    return Explained(
        kind="saturation",
        formula=formula,
        numbers=tuple(numbers),
        worked=f"{terms} = {n.load(found.load.value, analysis.load_kind)}, {span(found.load)}.{told}{rest}",
        data=_used(analysis),
        source=source,
        limits=limits,
    )


def _limiting(analysis: Analysis, plan: Plan) -> Explained | None:
    found = analysis.limiting
    if not isinstance(found, LimitingResource) or not found.evidence:
        return None
    resource = found.resource or found.evidence[0]
    demand = resource.demand
    numbers = [
        _number("U", f"{resource_text(resource.key)} busy at the top", n.percent(resource.utilisation)),
        _number("m", "its servers or places", n.figure(resource.servers)),
    ]
    worked = "There is no line through the levels to compute its demand from."
    if demand is not None:
        numbers += [
            _number("U₀", "busy without any of this load", n.percent(demand.background)),
            _number("D", "its time for each step that succeeds", n.seconds(demand.demand_s.value)),
        ]
        if demand.ceiling is not None:
            full = (1 - demand.background) * demand.servers / demand.demand_s.value
            worked = (
                f"(1 − {n.figure(demand.background)}) · {n.figure(demand.servers)} / "
                f"{n.seconds(demand.demand_s.value)} = {n.rate(full)} is where it is full."
            )
    if resource.waiting:
        numbers.append(_number("Q", "waiting for it", n.figure(resource.waiting)))
    others = [one for one in found.evidence if one is not resource]
    numbers += [
        _number("", f"{resource_text(one.key)} busy at the top", n.percent(one.utilisation)) for one in others[:5]
    ]
    return Explained(
        kind="limiting",
        formula="U = U₀ + D · X / m, full at X = (1 − U₀) · m / D",
        numbers=tuple(numbers),
        worked=worked,
        data=f"{_used(analysis)} Levels with a resource over {n.percent(laws.FULL)} busy tell no slope of it.",
        source="Utilisation law and bottleneck analysis (Denning & Buzen 1978); rules in a fixed order, the first that "
        "holds names the cause.",
        limits=(
            "What is not metered cannot be named: a lock or an outside service looks as if nothing were full.",
            "Demand is taken to be the same at every load.",
        ),
    )


def _breaking(analysis: Analysis, plan: Plan) -> Explained | None:
    found = analysis.breaking
    if not isinstance(found, BreakingPoint):
        return None
    ordered = sorted(analysis.levels, key=lambda level: level.load.delivered)
    return Explained(
        kind="breaking",
        formula="the load between the last level whose error ratio is under the limit and the first that is over it "
        "for sure",
        numbers=(
            _number("limit", "errors of all steps", n.percent(found.limit)),
            *(
                _number(
                    "",
                    f"at {n.load(level.load.delivered, analysis.load_kind)}",
                    f"{n.percent(level.error_ratio)} ({level.errors} of {level.completions})",
                )
                for level in ordered
            ),
        ),
        worked=f"On a straight line between them it passes at {n.load(found.load.value, analysis.load_kind)}, "
        f"{span(found.load)}.",
        data=_used(analysis),
        source="Score interval of a ratio (Wilson 1927), with fewer observations where failures come in bursts.",
        limits=("Between two levels nothing was measured: the interval reaches from one to the other.",),
    )


def _headroom(analysis: Analysis, peak: tuple[float, PeakIn] | None) -> Explained | None:
    comfort = analysis.comfort
    if peak is None or not isinstance(comfort, ComfortLimit):
        return None
    value, peak_in = peak
    kind = analysis.load_kind
    limit = comfort.load.value if comfort.load is not None else comfort.tested
    if peak_in == "load":
        room, unit = limit / value - 1, n.load(limit, kind)
        expected = n.load(value, kind)
    else:
        room, unit = comfort.throughput / value - 1, n.rate(comfort.throughput)
        expected = n.rate(value)
    name = "the comfort limit" if comfort.load is not None else "the highest load tried"
    return Explained(
        kind="headroom",
        formula="headroom = comfort limit / expected peak − 1",
        numbers=(
            _number("limit", f"{name}, in the unit of the peak", value=unit),
            _number("peak", "typed by a planner", value=expected),
        ),
        worked=f"{unit} / {expected} − 1 = {room * 100:+.0f} %.",
        data=_used(analysis),
        source="The interval of the comfort limit, divided by the peak.",
        limits=("The peak itself is taken as certain, and its mix of steps as that of this run.",),
    )


def _measuring(analysis: Analysis, plan: Plan) -> Explained | None:
    found = analysis.measuring
    return Explained(
        kind="measuring",
        formula="N felt lies in [N − O − B, N − O]; the true response time in [total − blind, total]",
        numbers=(
            _number("O + B", "users overdue or blind, at most at a level", n.percent(found.shift)),
            _number("", "the widest bracket of a level's 95th percentile", n.seconds(found.p95_blur_s)),
            _number("", "response times left out around stalls", n.percent(found.cut_share)),
            _number("", "seconds without data", str(found.gap_seconds)),
        ),
        worked=f"That is {found.verdict}.",
        data=f"{n.counted(found.seconds, 'second')} of all generators, each with what its loop saw of itself.",
        source="Little's law (1961) with the generator's own lateness as think time; a metronome of 10 ms in its loop.",
        limits=("What happens to an answer between the network and the generator's socket counts as the system's.",),
    )


def _laws(analysis: Analysis, plan: Plan) -> Explained | None:
    if not analysis.little:
        return None
    by_number = {level.number: level for level in analysis.levels}
    return Explained(
        kind="laws",
        formula="L = 1 − (in flight + X · Z) / N is 0 but for chance",
        numbers=tuple(
            _number(
                "",
                f"level {check.level}, {n.load(by_number[check.level].load.delivered, analysis.load_kind)}"
                if check.level in by_number
                else f"level {check.level}",
                f"{check.gap * 100:+.2g} %, by chance up to {n.percent(check.allowed * check.deviation)}"
                + (" ✕" if check.broken else ""),
            )
            for check in analysis.little
        ),
        worked=f"{sum(check.broken for check in analysis.little)} of {len(analysis.little)} levels are off by more "
        f"than {n.percent(laws.LITTLE_FLAG)} and chance.",
        data=_used(analysis),
        source=f"Little's law (Little 1961), read for N {NAMES[analysis.load_kind].lower()} who wait or think.",
        limits=("Where it is broken at over a third of the levels, nothing is claimed about the system.",),
    )


_EXPLAINED: Mapping[str, Callable[[Analysis, Plan], Explained | None]] = {
    "comfort": _comfort,
    "saturation": _saturation,
    "limiting": _limiting,
    "breaking": _breaking,
    "measuring": _measuring,
    "laws": _laws,
}
KINDS: Sequence[str] = (*_EXPLAINED, "headroom")
