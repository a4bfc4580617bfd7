"""From text to a checked plan and back."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from stonekettle.core.levels import MIN_HOLD_S
from stonekettle.core.objectives import Objective as CoreObjective
from stonekettle.plan import system_document, template
from stonekettle.plan.checking import did_you_mean, parse, plain, repeated, validated
from stonekettle.plan.journey import BUILT_IN
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError, Problem

Find = Callable[[str], Mapping[str, Any] | None]
MIN_LEVELS_FOR_A_CLAIM = 4


def read(text: str, find_system: Find | None = None, find_journey: Find | None = None) -> Plan:
    """A plan from YAML or JSON text. Raises :class:`PlanError` with every problem found.

    ``system`` may be a name, and a journey ``{journey: name, weight}``: ``find_system`` and
    ``find_journey`` then tell the document of that name, or None.
    """
    return from_document(parse(text), find_system, find_journey)


def from_document(document: object, find_system: Find | None = None, find_journey: Find | None = None) -> Plan:
    """A plan from plain data, checked as a whole."""
    if not isinstance(document, Mapping):
        mend = "Start with 'name:', 'system:', 'journeys:' and 'load:'."
        raise PlanError([Problem("document", "this is not a plan.", mend)])
    named = document.get("system")
    if isinstance(named, str):
        document = {**document, "system": _found("system", "system", named, find_system)}
    document = {**document, **_with_journeys(document, find_journey)}
    plan = validated(Plan, document)
    problems = list(_inconsistencies(plan))
    if problems:
        raise PlanError(problems)
    return plan


def to_document(plan: Plan) -> dict[str, Any]:
    """Plain data that :func:`from_document` reads back as the same plan."""
    return plain(plan)


def _with_journeys(document: Mapping[str, Any], find: Find | None) -> dict[str, Any]:
    """The document's journeys, those it only names replaced by what they are."""
    journeys = document.get("journeys")
    if not isinstance(journeys, list):
        return {}
    whole = []
    for i, journey in enumerate(journeys):
        if isinstance(journey, Mapping) and set(journey) <= {"journey", "weight"} and "journey" in journey:
            draft = _found(f"journeys[{i}].journey", "journey", str(journey["journey"]), find)
            kept = {key: value for key, value in draft.items() if key not in ("system", "notes")}
            journey = {**kept, **({"weight": journey["weight"]} if "weight" in journey else {})}
        whole.append(journey)
    return {"journeys": whole}


def _found(path: str, kind: str, name: str, find: Find | None) -> Mapping[str, Any]:
    if find is None:
        mend = f"Without the web application, write the {kind} out."
        raise PlanError([Problem(path, f"the {kind} {name!r} is only a name here.", mend)])
    found = find(name)
    if found is None:
        mend = f"Describe it under {kind.capitalize()}s first."
        raise PlanError([Problem(path, f"there is no {kind} named {name!r}.", mend)])
    return found


def json_schema() -> dict[str, Any]:
    """JSON Schema (2020-12) of the document."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Plan.model_json_schema()}


def advice(plan: Plan) -> tuple[str, ...]:
    """What would keep the run from answering, though it can run."""
    levels = plan.profile.levels()
    found = []
    if len(levels) < MIN_LEVELS_FOR_A_CLAIM:
        found.append(
            f"The profile has {len(levels)} level(s); a saturation point needs at least "
            f"{MIN_LEVELS_FOR_A_CLAIM}, half of them beyond it."
        )
    short = [level for level in levels if level.duration_s < MIN_HOLD_S]
    if short:
        found.append(f"{len(short)} level(s) are held under 10 s and will not be analysed.")
    peak = plan.profile.peak_users
    for feed in plan.feeds:
        if len(feed.rows) < peak and (feed.take == "one per user" or feed.end == "retire"):
            then = "the others retire" if feed.end == "retire" else "several users share a row"
            found.append(f"The feed {feed.name!r} has {len(feed.rows)} rows for {peak:.0f} users: {then}.")
    for journey in plan.journeys:
        same = sorted(set(journey.sample) - {column for feed in plan.feeds for column in feed.columns})
        if same:
            found.append(
                f"Every user of {journey.name!r} sends the same {', '.join(same)}: the server's caches would "
                "flatter the result. Add a feed with such columns."
            )
    if not plan.meters:
        found.append("No component has a meter: the run cannot name a limiting resource.")
    return tuple(found)


def resolved(plan: Plan, directory: Mapping[str, Sequence[str]]) -> Plan:
    """The plan with ``practice://component`` addresses replaced from ``directory``
    (component → addresses of its instances). Raises :class:`PlanError` for unknown components."""
    system = system_document.resolved(plan.system, directory, "system.")
    return plan.model_copy(update={"system": system})


def core_objectives(plan: Plan) -> tuple[CoreObjective, ...]:
    """The plan's objectives with steps as numbers, for the core."""
    numbers = {step.name: i for i, (_, step) in enumerate(plan.steps)}
    found = []
    for number, goal in enumerate(plan.objectives, start=1):
        steps = (numbers[goal.step],) if goal.step else None
        if goal.within is not None and goal.percentile is not None:
            found.append(CoreObjective(number, "response", goal.within, goal.percentile, steps))
        elif goal.errors is not None:
            found.append(CoreObjective(number, "errors", goal.errors, steps=steps))
    return tuple(found)


def _inconsistencies(plan: Plan) -> Iterable[Problem]:
    yield from system_document.inconsistencies(plan.system, "system.")
    yield from repeated("journeys", [j.name for j in plan.journeys])
    names = [step.name for _, step in plan.steps]
    yield from repeated("journeys[].steps", names)
    fed = {column for feed in plan.feeds for column in feed.columns} | set(BUILT_IN)
    for i, journey in enumerate(plan.journeys):
        known = fed | set(journey.sample)
        for j, step in enumerate(journey.steps):
            if not step.enabled:
                continue
            used = {name for text in step.texts for name in template.variables(text)}
            for name in sorted(used - known):
                yield Problem(
                    f"journeys[{i}].steps[{j}]",
                    f"the variable {{{{{name}}}}} in {step.name!r} has no value.",
                    did_you_mean(name, known, "Add a feed with such a column, or keep it from an earlier response."),
                )
            known |= {keep.name for keep in step.keep}
    components = [component.name for component in plan.system.components]
    for i, journey in enumerate(plan.journeys):
        if journey.proof is not None and journey.proof.component not in components:
            mend = did_you_mean(journey.proof.component, components, "Use the name of a component of the system.")
            name = journey.proof.component
            yield Problem(f"journeys[{i}].proof.component", f"there is no component named {name!r}.", mend)
    for i, goal in enumerate(plan.objectives):
        if goal.step is not None and goal.step not in names:
            mend = did_you_mean(goal.step, names, "Use the name of a step.")
            yield Problem(f"objectives[{i}].step", f"there is no step named {goal.step!r}.", mend)
    if plan.profile.peak_users < 1:
        yield Problem("load", "the load never reaches one user.", "Give a segment some users.")
