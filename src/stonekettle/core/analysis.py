"""What did this run find? Every question of the core, asked in order."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from stonekettle.core import blur, bottleneck, changes, laws, levels, objectives, saturation, stalls
from stonekettle.core.changes import Change
from stonekettle.core.load import LoadKind
from stonekettle.core.orders import Ordered
from stonekettle.core.run_data import SOFTWARE, RunData
from stonekettle.core.throughput import ThroughputGoal, ThroughputResult
from stonekettle.core.throughput import judge as judge_throughput
from stonekettle.core.types import Declined, Reason

VERSION = 9
"""Raised whenever the same data would give other findings."""


@dataclass(frozen=True)
class Arriving:
    """How many people were to arrive in a run, how many came, and how many of them were turned away."""

    ordered: float
    started: float
    turned_away: float


@dataclass(frozen=True)
class Analysis:
    """All findings of one run. A :class:`Declined` stands where the data carry no answer."""

    version: int
    load_kind: LoadKind
    levels: tuple[levels.Level, ...]
    measuring: blur.Measuring
    little: tuple[laws.LittleCheck, ...]
    demands: tuple[laws.Demand, ...]
    saturation: saturation.Saturation | Declined
    comfort: objectives.ComfortLimit | Declined
    breaking: objectives.BreakingPoint | Declined
    limiting: bottleneck.LimitingResource | Declined
    first_errors: tuple[objectives.FirstError, ...]
    arriving: Arriving | None = None
    changes: tuple[Change, ...] = ()
    throughput: tuple[ThroughputResult, ...] = ()

    @property
    def trustworthy(self) -> bool:
        """Whether no claim had to be withheld for the way it was measured."""
        return self.measuring.verdict != "not trustworthy"

    @property
    def hardware_demands(self) -> tuple[laws.Demand, ...]:
        """The demands without those of pools, which do no work of their own; none where nothing tells them apart."""
        if isinstance(self.limiting, Declined):
            return ()
        pools = {one.key for one in self.limiting.evidence if one.kind in SOFTWARE}
        return tuple(demand for demand in self.demands if demand.key not in pools)


def analyse(
    run: RunData,
    ordered: Ordered,
    goals: Sequence[objectives.Objective],
    error_limit: float,
    requests: Iterable[stalls.Requests] = (),
    *,
    promised: Sequence[ThroughputGoal] = (),
) -> Analysis:
    """Analyse ``run`` by the load that was ``ordered`` and its objectives.

    ``error_limit`` is the error ratio (0..1) that defines the breaking point. ``requests`` are the run's
    single requests; they are read only when stalls of the generators must be cut out. ``promised`` is the work that
    must be done while the objectives hold.
    """
    planned = ordered.levels()
    measured = levels.measure(run, planned)
    demands = _demands(run, measured)
    pools = {resource.key for resource in run.resources if resource.is_pool}
    hardware = [d for d in demands if d.key not in pools]
    left_out = stalls.windows(run, measured, _throughput_limit(measured, hardware))
    if left_out.size:
        run = stalls.without(run, left_out, requests)
        measured = levels.measure(run, planned)
    checks = laws.obeyed(measured)
    changed = changes.find(run, measured)
    aged = changes.aged(changed)
    if aged:
        demands = _demands(run, measured, aged=True)
        hardware = [d for d in demands if d.key not in pools]
    fits = saturation.Fits(hardware)
    metered = [r.key for r in run.resources if r.kind != "memory"]
    point: saturation.Saturation | Declined = saturation.find(
        measured, hardware, changed=changed, metered=metered, pools=sorted(pools), fits=fits
    )
    # Beside regular interruptions percentiles are theirs, and no curve tells them.
    steady = goals and not changes.interrupted(changed)
    response = saturation.response_curve(measured, hardware, fits) if steady else None
    comfort = objectives.comfort_limit(run, measured, goals, aged=aged, response=response)
    breaking = objectives.breaking_point(run, measured, error_limit)
    shape = point if isinstance(point, saturation.Saturation) else None
    shortfall = blur.shortfall(run, measured)
    limiting: bottleneck.LimitingResource | Declined = bottleneck.identify(run, measured, shape, demands, shortfall)
    if isinstance(limiting, bottleneck.LimitingResource) and limiting.cause == "generator":
        point = Declined(Reason.GENERATOR, point.at_least)
        breaking = _of_load_that_was_there(breaking, measured)
    elif not measured:
        limiting = Declined(Reason.TOO_FEW_LEVELS)
    done = judge_throughput(run, measured, promised, comfort)
    if sum(check.gross for check in checks) * 3 > len(checks):
        done = ()
        point = comfort = breaking = limiting = Declined(Reason.LAWS)
    return Analysis(
        VERSION,
        run.load_kind,
        measured,
        blur.assess(run, measured, _withheld(point, comfort)),
        checks,
        demands,
        point,
        comfort,
        breaking,
        limiting,
        objectives.first_errors(run),
        _arriving(run),
        changed,
        done,
    )


def _arriving(run: RunData) -> Arriving | None:
    if run.arrivals is None:
        return None
    sums = (float(series.sum()) for series in (run.arrivals.ordered, run.arrivals.started, run.arrivals.turned_away))
    return Arriving(*sums)


def _demands(run: RunData, measured: Sequence[levels.Level], *, aged: bool = False) -> tuple[laws.Demand, ...]:
    """What steps cost at each resource; of a system that has aged, what they cost at the highest loads."""
    cost = laws.latest_demand if aged else laws.demand
    return tuple(
        found
        for resource in run.resources
        if resource.kind != "memory" and (found := cost(resource, measured)) is not None
    )


def _of_load_that_was_there(
    breaking: objectives.BreakingPoint | Declined, measured: Sequence[levels.Level]
) -> objectives.BreakingPoint | Declined:
    """Where the generators were short of the load, errors may be theirs, and came at another load than the level's."""
    if isinstance(breaking, Declined):
        return breaking
    over = next(lv for lv in measured if lv.number == breaking.level)
    if over.shift <= bottleneck.SHORT:
        return breaking
    sound = [lv.load.delivered for lv in measured if lv.shift <= bottleneck.SHORT]
    below = [load for load in sound if load < over.load.delivered]
    return Declined(Reason.GENERATOR, max(below, default=None))


def _throughput_limit(measured: Sequence[levels.Level], hardware: Sequence[laws.Demand]) -> float:
    """The best guess at X_max before anything is claimed: what was reached, or the hardware's ceiling."""
    ceilings = [demand.ceiling.value for demand in hardware if demand.ceiling is not None]
    return max(min(ceilings, default=0.0), max((lv.completion_rate for lv in measured), default=0.0))


def _withheld(point: saturation.Saturation | Declined, comfort: objectives.ComfortLimit | Declined) -> tuple[str, ...]:
    """The claims that the way of measuring cost: by their names."""
    found = []
    if isinstance(comfort, Declined) and comfort.reason.of_measuring:
        found.append("comfort limit")
    if point.reason.of_measuring if isinstance(point, Declined) else point.status == "blurred":
        found.append("saturation point")
    return tuple(found)
