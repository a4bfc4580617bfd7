"""From a capacity plan's document and the runs it rests on to what should be there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from functools import lru_cache

import numpy as np
from django.db.models import Q
from ninja import Schema

from stonekettle.core import known as core
from stonekettle.core.analysis import Analysis
from stonekettle.core.capacity import Ceiling, Terms, Unplanned
from stonekettle.core.capacity_study import Case, Doing, Plan, Size, Study
from stonekettle.core.cost import HOURS_A_MONTH
from stonekettle.core.known import Known
from stonekettle.core.serving import Peak, Step, judged
from stonekettle.core.types import Estimate
from stonekettle.plan import capacity_document, document
from stonekettle.plan.capacity_document import CapacityPlan as Told
from stonekettle.plan.models import Plan as RunPlan
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.system import System as Description
from stonekettle.report import capacity as words
from stonekettle.report.notes.comfort import objective_text
from stonekettle.report.notes.note import Note, resource_text
from stonekettle.server.capacity.models import CapacityPlan
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import data, timings
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run
from stonekettle.server.systems.models import System

LOOK_BACK = 20
"""So many runs are asked for demands, the newest first."""
POINTS = 160
AROUND_DAYS = 45
"""A plan for a single day is drawn with so many days around it."""
UNITS = {"users": "users", "steps": "steps/s"}


class Amount(Schema):
    """A figure with its 90 % interval."""

    value: float
    low: float
    high: float


class ComponentLine(Schema):
    """A component ``now`` and as ``planned`` (None: there is no plan), with the sizes of its instances and what they
    cost per hour. Its fullest ``resource`` is in ``use`` at the peak, and in ``use_lost`` with the worst loss. Alone it
    would do up to its ``ceiling``, and as it is up to ``now_ceiling`` while no instance is lost; None: beyond all that
    was looked at. ``until`` is the last day on which the expected load is at most that of now. Nothing of this is known
    where it is not ``metered``."""

    name: str
    metered: bool
    now: int
    now_size: str
    now_ceiling: float | None
    until: date | None
    planned: int | None
    size: str
    per_hour: float | None
    resource: str
    use: Amount | None
    use_lost: Amount | None
    ceiling: float | None


class GoalLine(Schema):
    """An objective at the peak, as planned (``unit`` s or score): with all instances there, and with the worst loss.
    ``limit`` is what was promised; a score is to be above it."""

    text: str
    unit: str
    limit: float
    decides: bool
    judged: Amount
    judged_lost: Amount


class AlternativeLine(Schema):
    label: str
    counts: dict[str, int]
    sizes: dict[str, str]
    per_hour: float
    carried: float | None


class ExpectedDay(Schema):
    """The load expected on a day, headroom included; a ``note`` where a peak is told for it."""

    on: date
    load: float
    told: bool
    note: str


class CapacityAnswer(Schema):
    """What a plan comes to. Loads are in ``unit``; ``peak`` is the highest with headroom, expected ``peak_on``. Costs
    are in ``currency``, None: instances are counted. ``lost`` is the component whose loss strains the plan most. The
    present system is enough until a day, None: as long as the plan looks. ``carried`` and ``now_carried`` are loads,
    None: beyond all looked at; the present system carries ``now_whole`` as long as no instance is lost."""

    note: Note
    rests_on: list[int]
    unit: str
    peak: float
    peak_on: date
    rate: float
    currency: str | None
    per_hour: float | None
    per_month: float | None
    now_per_hour: float
    carried: float | None
    now_carried: float | None
    now_whole: float | None
    now_holds: bool
    enough_until: date | None
    lost: str | None
    components: list[ComponentLine]
    goals: list[GoalLine]
    pools: list[str]
    alternatives: list[AlternativeLine]
    unknown: list[str]
    not_judged: list[str]
    timeline: list[ExpectedDay]


class OtherwiseLine(Schema):
    """What would be needed if something were otherwise, and whether the plan ``holds`` all the same. ``adds`` is what
    is to be added, in words; empty: nothing."""

    label: str
    holds: bool
    adds: str
    counts: dict[str, int] | None
    per_hour: float | None


@dataclass(frozen=True)
class Asked:
    """A plan's case and what it is about."""

    case: Case
    about: words.About
    system: Description
    run_plan: RunPlan
    runs: tuple[int, ...]
    not_judged: tuple[str, ...]


def of(plan: CapacityPlan) -> CapacityAnswer:
    """Raises :class:`Conflict` where there is no run to rest on, and :class:`PlanError` where the document names what
    is not there."""
    question = asked(plan)
    return _answer(question, question.case.study())


def otherwise(plan: CapacityPlan) -> list[OtherwiseLine]:
    """What would be needed otherwise; nothing where there is no plan."""
    question = asked(plan)
    found = question.case.cheapest(carried=False)
    if isinstance(found, Unplanned):
        return []
    journeys = [journey.name for journey, _ in question.run_plan.steps]
    parts = question.about.parts
    return [
        OtherwiseLine(
            label=words.otherwise(one),
            holds=one.holds,
            adds=words.added(found, one.plan, parts) if isinstance(one.plan, Plan) else "no number is enough",
            counts=dict(zip(parts, one.plan.counts, strict=True)) if isinstance(one.plan, Plan) else None,
            per_hour=one.plan.cost if isinstance(one.plan, Plan) else None,
        )
        for one in question.case.otherwise(found, journeys)
    ]


def asked(plan: CapacityPlan) -> Asked:
    """A plan's case. Raises as :func:`of` does."""
    told = plan.told
    key = plan.system_id
    system = System.objects.filter(pk=key).first() if key is not None else None
    if system is None:
        raise PlanError([Problem("system", f"there is no system named {told.system!r}.", "Choose one under Systems.")])
    runs = _runs(told, system)
    run, description = runs[0][0], system.description
    run_plan = run.plan
    knowledge, resized = _as_today(core.pooled([one for _, one in runs]), run_plan.system, description)
    journeys = [journey.name for journey, _ in run_plan.steps]
    missing = list(capacity_document.unknown(told, knowledge.system.parts, list(dict.fromkeys(journeys))))
    if missing:
        raise PlanError(missing)
    knowledge = _as_told(told, knowledge, journeys)
    every = document.core_objectives(run_plan)
    goals = [goal for goal in every if goal.decides and judged(goal, knowledge.system.steps)]
    prices, currency = _prices(description, knowledge.system.parts, told)
    metered = {station.component for station in knowledge.system.stations}
    least = {part: knowledge.instances[part] for part in knowledge.system.parts if part not in metered} | told.least
    peak = Peak(
        "users" if told.counted_in == "users" else "rate", told.highest.load * (1 + told.headroom), told.uncertain
    )
    terms = Terms(peak, prices, told.lost, least)
    sizes = [Size(size.component, size.name, size.times, size.price_per_hour) for size in told.sizes]
    about = words.About(
        told,
        knowledge,
        terms,
        [objective_text(goal, run_plan) for goal in goals],
        currency,
        [part for part in knowledge.system.parts if part not in metered],
        [run.pk for run, _ in runs if run.seeded],
        resized,
    )
    return Asked(
        Case(knowledge, goals, terms, sizes),
        about,
        description,
        run_plan,
        tuple(run.pk for run, _ in runs),
        tuple(objective_text(goal, run_plan) for goal in every if goal not in goals),
    )


def _runs(told: Told, system: System) -> list[tuple[Run, Known]]:
    """The runs that a plan rests on with what each knows, the newest first; those that came with the product, which
    were played in virtual time, where nothing else is there."""
    real = Q(simulated=False) | Q(seeded=True)
    measured = Run.objects.there().filter(real, system=system, result__isnull=False).order_by("seeded", "-pk")
    if told.runs:
        found = []
        for number in sorted(told.runs, reverse=True):
            run = measured.filter(pk=number).first()
            if run is None:
                message = f"run {number} is none that measured {system.name}."
                raise PlanError([Problem("runs", message, "Choose a finished run of this system, no rehearsal.")])
            one = knowledge_of(run)
            if one is None:
                message = f"run {number} knows no demand of a resource."
                raise PlanError([Problem("runs", message, "Choose a run with meters and three levels or more.")])
            found.append((run, one))
        return found
    for run in measured[:LOOK_BACK]:
        one = knowledge_of(run)
        if one is not None:
            return [(run, one)]
    raise Conflict(
        f"No run knows yet what a step costs {system.name}. Run an experiment of it with meters, at three levels or "
        "more; the plan rests on the demands it finds."
    )


def knowledge_of(run: Run) -> Known | None:
    """What a run knows of its system; None where it knows no demand."""
    return _knowledge(run.pk, run.analysis_version, tuple(run.set_aside.values_list("from_s", "until_s")))


@lru_cache(maxsize=64)
def _knowledge(pk: int, version: int, set_aside: tuple[tuple[int, int], ...]) -> Known | None:
    """What is known of a run that ended changes by another analysis, or by what is left out of it, alone."""
    run = Run.objects.get(pk=pk)
    analysis = findings_of(run)
    if analysis is None:
        return None
    instances = {component.name: component.instances for component in run.plan.system.components}
    names = [f"{journey.name} / {step.name}" for journey, step in run.plan.steps]
    return core.known(analysis, names, instances, _server_s(run, analysis))


def _server_s(run: Run, analysis: Analysis) -> Mapping[tuple[int, str], float]:
    """The mean time (s) that servers say they spent on a step, by its place and the name they go by."""
    if run.seeded:
        return {}
    used = np.zeros(data.seconds_stored(run), dtype=np.int64)
    for level in analysis.levels:
        used[level.window(used.size).used] = 1
    return {
        (step, name): float(total_s / count)
        for (_, name, step), (count, total_s) in timings.by_level(run, used).items()
        if count
    }


def _as_today(knowledge: Known, measured: Description, today: Description) -> tuple[Known, list[words.Resized]]:
    """With the components, instances and sizes that the system has today: where an instance type tells other cores than
    it did when it was measured, it is taken to do as much more or less; and where that is so."""
    then, now = ({c.name: c for c in system.components} for system in (measured, today))
    parts = tuple(dict.fromkeys([*knowledge.system.parts, *now]))
    instances = {part: now[part].instances if part in now else knowledge.instances[part] for part in parts}
    factors, resized = dict[str, float](), list[words.Resized]()
    for part in then.keys() & now.keys():
        before, after = then[part].instance_type, now[part].instance_type
        if before and after and before.vcpus and after.vcpus and before.vcpus != after.vcpus:
            factors[part] = after.vcpus / before.vcpus
            resized.append(words.Resized(part, before.name, after.name, factors[part]))
    stations = tuple(
        replace(s, servers=s.servers * factors.get(s.component, 1.0)) if s.key == f"{s.component}.cpu" else s
        for s in knowledge.system.stations
    )
    return replace(
        knowledge, system=replace(knowledge.system, parts=parts, stations=stations), instances=instances
    ), resized


def _as_told(told: Told, knowledge: Known, journeys: Sequence[str]) -> Known:
    """With the mix and the think time that a plan tells."""
    system = knowledge.system
    if told.mix:
        system = system.mixed(_shares(told.mix, system.steps, journeys))
    if told.think is not None:
        system = replace(system, think_s=told.think)
    return replace(knowledge, system=system)


def _shares(mix: Mapping[str, float], steps: Sequence[Step], journeys: Sequence[str]) -> list[float]:
    """The share of each step where journeys are begun by these weights: each keeps its own steps in proportion."""
    begun = {name: max(step.share for step, of in zip(steps, journeys, strict=True) if of == name) for name in mix}
    found = [
        mix.get(of, 0.0) * step.share / begun[of] if begun.get(of) else 0.0
        for step, of in zip(steps, journeys, strict=True)
    ]
    if not sum(found) > 0:
        raise PlanError([Problem("mix", "the run measured none of these journeys.", "Give a weight to another one.")])
    return found


def _prices(system: Description, parts: Sequence[str], told: Told) -> tuple[dict[str, float], str | None]:
    """What an instance of each component costs per hour, and the currency; None where nothing has a price. One without
    a price is taken to cost as much as the mean one."""
    known = {
        component.name: component.instance_type.price_per_hour
        for component in system.components
        if component.instance_type is not None and component.instance_type.price_per_hour is not None
    }
    if not known:
        return {}, None
    usual = sum(known.values()) / len(known)
    return {part: known.get(part, usual) for part in parts}, system.currency


def _answer(asked: Asked, study: Study) -> CapacityAnswer:
    about, told, plan = asked.about, asked.about.told, study.plan
    made = plan if isinstance(plan, Plan) else None
    doing = study.doing or study.now_doing
    return CapacityAnswer(
        note=words.note(study, about),
        rests_on=list(asked.runs),
        unit=UNITS[told.counted_in],
        peak=about.terms.peak.value,
        peak_on=told.highest.on,
        rate=doing.rate,
        currency=about.currency,
        per_hour=made.cost if made else None,
        per_month=made.cost * HOURS_A_MONTH if made else None,
        now_per_hour=study.now.cost,
        carried=made.carried if made else None,
        now_carried=study.now.carried,
        now_whole=study.now_whole,
        now_holds=study.now_doing.holds,
        enough_until=words.enough_until(told, study.now.carried),
        lost=doing.lost,
        components=_components(asked, study),
        goals=_goals(asked, doing),
        pools=words.pools(study, about),
        alternatives=[
            AlternativeLine(
                label=words.alternative(one),
                counts=dict(zip(about.parts, one.plan.counts, strict=True)),
                sizes=words.sizes_of(one.plan, {}),
                per_hour=one.plan.cost,
                carried=one.plan.carried,
            )
            for one in study.alternatives
        ],
        unknown=words.unknown(about, doing.rate),
        not_judged=list(asked.not_judged),
        timeline=_timeline(told),
    )


def _components(asked: Asked, study: Study) -> list[ComponentLine]:
    about = asked.about
    types = {c.name: c.instance_type.name if c.instance_type else "" for c in asked.system.components}
    made = study.plan if isinstance(study.plan, Plan) else None
    ceilings, now_ceilings = _by_name(study.ceilings), _by_name(study.now_ceilings)
    stations = about.known.system.stations
    found = []
    for k, part in enumerate(about.parts):
        own = [i for i, station in enumerate(stations) if station.component == part]
        doing: Doing | None = study.doing or study.now_doing
        fullest = max(own, key=lambda i: doing.use[i].value) if own and doing else None
        size = made.sizes.get(part) if made else None
        price = size.price if size else about.terms.prices.get(part)
        found.append(
            ComponentLine(
                name=part,
                metered=bool(own),
                now=study.now.counts[k],
                now_size=types.get(part, ""),
                now_ceiling=now_ceilings.get(part),
                until=words.enough_until(about.told, now_ceilings.get(part)),
                planned=made.counts[k] if made else None,
                size=size.name if size else types.get(part, ""),
                per_hour=price * made.counts[k] if made and price is not None else None,
                resource=resource_text(stations[fullest].key) if fullest is not None else "",
                use=amount(doing.use[fullest]) if doing and fullest is not None else None,
                use_lost=amount(doing.use_lost[fullest]) if doing and fullest is not None else None,
                ceiling=ceilings.get(part),
            )
        )
    return found


def _by_name(ceilings: Sequence[Ceiling]) -> dict[str, float | None]:
    return {one.component: one.load for one in ceilings}


def _goals(asked: Asked, doing: Doing) -> list[GoalLine]:
    return [
        GoalLine(
            text=text,
            unit="score" if goal.kind == "apdex" else "s",
            limit=goal.limit,
            decides=goal.decides,
            judged=amount(whole),
            judged_lost=amount(short),
        )
        for goal, text, whole, short in zip(
            asked.case.goals, asked.about.goals, doing.judged, doing.judged_lost, strict=True
        )
    ]


def amount(estimate: Estimate) -> Amount:
    return Amount(value=estimate.value, low=estimate.low, high=estimate.high)


def _timeline(told: Told) -> list[ExpectedDay]:
    """The expected load day by day, at most so many of them, with every peak that is told."""
    first, last = told.in_order[0].on, told.until
    if first == last:
        first, last = first - timedelta(days=AROUND_DAYS), last + timedelta(days=AROUND_DAYS)
    notes = {peak.on: peak.note for peak in told.peaks}
    step = max(1, (last - first).days // POINTS)
    days = {first + timedelta(days=k) for k in range(0, (last - first).days + 1, step)} | set(notes) | {last}
    return [
        ExpectedDay(on=on, load=told.load_on(on) * (1 + told.headroom), told=on in notes, note=notes.get(on, ""))
        for on in sorted(days)
    ]
