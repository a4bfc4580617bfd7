"""The forecast of an experiment: what its load would see, beside what its last run saw."""

from __future__ import annotations

import math

from django.db.models import Q
from ninja import Schema

from stonekettle.core.load import UNITS, LoadKind
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError
from stonekettle.practice.forecast import Curve, Forecast, forecast, mixed, steps_per_arrival
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run
from stonekettle.server.runs.twins import TwinSystem, twin_for

MOST_USERS = 5_000


class CurveLine(Schema):
    value: list[float | None]
    low: list[float | None]
    high: list[float | None]


class SeenLevel(Schema):
    """A level of the last run: mean response time in s, steps per second."""

    load: float
    throughput: float
    response_s: float


class ForecastLines(Schema):
    """Against ``load``, counted in ``unit``. Beyond ``measured_to`` (None: all of it is known) it is
    extrapolated; responses are null where they only grow as long as the load lasts."""

    words: str
    run: int | None
    measured_to: float | None
    kind: LoadKind
    unit: str
    load: list[float]
    throughput: CurveLine
    response_s: CurveLine
    utilisation: dict[str, list[float]]
    saturation: float
    saturation_low: float
    saturation_high: float
    limiting: str


class Traffic(Schema):
    """What a step moved in ``run``, the last measured one of the experiment, or of any on its system."""

    run: int
    requests_per_step: float
    bytes_per_step: float


class ForecastAnswer(Schema):
    """A forecast, or why there is none; ``seen`` are the levels of the last measured run of the experiment,
    ``seen_run`` its key."""

    traffic: Traffic | None
    forecast: ForecastLines | None
    why_not: str
    seen_run: int | None
    seen: list[SeenLevel]


def of(experiment: Experiment) -> ForecastAnswer:
    """The forecast for the revision in force."""
    run, seen = None, list[SeenLevel]()
    try:
        plan = experiments.current_plan(experiment)
        run, seen = _seen(experiment, plan.planned.load_kind)
        found, why_not = _lines(plan, experiment), ""
    except (Conflict, PlanError) as error:
        found, why_not = None, str(error)
    return ForecastAnswer(traffic=_traffic(experiment), forecast=found, why_not=why_not, seen_run=run, seen=seen)


def _lines(plan: Plan, experiment: Experiment) -> ForecastLines:
    arriving = [group.arrives for group in plan.people]
    if any(arriving) and not all(arriving):
        raise Conflict("Forecasts are for users or for people who arrive by rate; this load has both.")
    if plan.planned.peak_users > MOST_USERS:
        raise Conflict(f"Forecasts go up to {MOST_USERS} users.")
    system = twin_for(plan, experiment)
    journeys = mixed(plan, system.journeys)
    if not any(journey.weight for journey in journeys):
        journeys = list(system.journeys)  # everybody is counted to a journey: the weights tell more than nothing
    systems = (system.config, *system.ends)
    if all(arriving):
        each = steps_per_arrival(plan)
        found = forecast(systems, journeys, plan.planned.peak_rate, each)
        measured_to = system.measured_rate / each if system.measured_rate is not None else None
    else:
        found, measured_to = forecast(systems, journeys, plan.planned.peak_users), system.measured_to
    return _told(found, system, measured_to)


def _told(found: Forecast, system: TwinSystem, measured_to: float | None) -> ForecastLines:
    return ForecastLines(
        words=system.words,
        run=system.run,
        measured_to=measured_to,
        kind=found.kind,
        unit=UNITS[found.kind],
        load=found.load.tolist(),
        throughput=_curve(found.throughput),
        response_s=_curve(found.response_s),
        utilisation={key: values.tolist() for key, values in found.utilisation.items()},
        saturation=found.saturation.value,
        saturation_low=found.saturation.low,
        saturation_high=found.saturation.high,
        limiting=found.limiting,
    )


def _curve(curve: Curve) -> CurveLine:
    ends = (curve.value, curve.low, curve.high)
    value, low, high = ([v if math.isfinite(v) else None for v in end.tolist()] for end in ends)
    return CurveLine(value=value, low=low, high=high)


def _traffic(experiment: Experiment) -> Traffic | None:
    """Of its own last run, or of the last on its system; None where neither told its bytes."""
    measured = Run.objects.there().filter(simulated=False, result__totals__received_bytes__gt=0)
    own = Q(revision__experiment=experiment)
    on_its_system = Q(system__isnull=False, system=experiment.system_id)
    for chosen in (own, on_its_system):
        found = measured.filter(chosen).order_by("-pk").values_list("pk", "result__totals").first()
        if found is not None and (steps := found[1].get("steps")):
            run, totals = found
            moved = totals["received_bytes"] + totals["sent_bytes"]
            return Traffic(run=run, requests_per_step=totals["requests"] / steps, bytes_per_step=moved / steps)
    return None


def _seen(experiment: Experiment, kind: LoadKind) -> tuple[int | None, list[SeenLevel]]:
    """The levels of the experiment's last measured run."""
    measured = Run.objects.there().filter(revision__experiment=experiment, simulated=False, result__isnull=False)
    for run in measured.order_by("-pk")[:5]:
        analysis = findings_of(run)
        if analysis is not None and analysis.load_kind == kind and analysis.levels:
            levels = [
                SeenLevel(load=lv.load.delivered, throughput=lv.throughput, response_s=lv.response_s)
                for lv in analysis.levels
                if not lv.moving and lv.completions > lv.errors
            ]
            return run.pk, levels
    return None, []
