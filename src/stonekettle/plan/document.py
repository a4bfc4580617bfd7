"""From text to a checked plan and back."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, cast
from urllib.parse import urlsplit

import yaml
from pydantic import ValidationError

from stonekettle.core.levels import MIN_HOLD_S
from stonekettle.core.objectives import Objective as CoreObjective
from stonekettle.plan import template
from stonekettle.plan.models import PRACTICE, Meter, Plan
from stonekettle.plan.problems import PlanError, Problem

MAX_BYTES = 5_000_000
MIN_LEVELS_FOR_A_CLAIM = 4
_MENDS = {
    "missing": "Add it.",
    "extra_forbidden": "Remove it, or correct its spelling.",
    "greater_than": "Use a larger number.",
    "greater_than_equal": "Use a larger number.",
    "less_than_equal": "Use a smaller number.",
    "int_parsing": "Write a whole number.",
    "int_from_float": "Write a whole number.",
    "too_short": "Add at least one.",
    "string_too_short": "Write some text.",
    "string_too_long": "Shorten it.",
}


def read(text: str) -> Plan:
    """A plan from YAML or JSON text. Raises :class:`PlanError` with every problem found."""
    if len(text.encode()) > MAX_BYTES:
        raise PlanError([Problem("document", "the document is over 5 MB.", "Shorten its feeds.")])
    try:
        document = yaml.safe_load(text)
    except yaml.YAMLError as error:
        raise PlanError([_syntax_problem(error)]) from error
    return from_document(document)


def from_document(document: object) -> Plan:
    """A plan from plain data, checked as a whole."""
    if not isinstance(document, Mapping):
        mend = "Start with 'name:', 'system:', 'journeys:' and 'load:'."
        raise PlanError([Problem("document", "this is not a plan.", mend)])
    try:
        plan = Plan.model_validate(document)
    except ValidationError as error:
        raise PlanError(_problem(e) for e in _innermost(error)) from error
    problems = list(_inconsistencies(plan))
    if problems:
        raise PlanError(problems)
    return plan


def to_document(plan: Plan) -> dict[str, Any]:
    """Plain data that :func:`from_document` reads back as the same plan."""
    return plan.model_dump(mode="json", by_alias=True, exclude_none=True, exclude_defaults=True)


def to_yaml(plan: Plan) -> str:
    return yaml.safe_dump(to_document(plan), sort_keys=False, allow_unicode=True, width=100)


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
    if not plan.meters:
        found.append("No component has a meter: the run cannot name a limiting resource.")
    return tuple(found)


def resolved(plan: Plan, directory: Mapping[str, Sequence[str]]) -> Plan:
    """The plan with ``practice://component`` addresses replaced from ``directory``
    (component → addresses of its instances). Raises :class:`PlanError` for unknown components."""
    problems: list[Problem] = []

    def lookup(path: str, address: str) -> list[str]:
        parts = urlsplit(address)
        if parts.scheme != PRACTICE:
            return [address]
        found = directory.get(parts.hostname or "", ())
        if not found:
            known = ", ".join(directory) or "none is running"
            problems.append(Problem(path, f"{address} is not in the practice system.", f"Its components: {known}."))
        return [base + parts.path for base in found]

    base = lookup("system.base_url", plan.system.base_url)
    components = []
    for i, component in enumerate(plan.system.components):
        if component.meter is not None:
            path = f"system.components[{i}].meter.openmetrics"
            urls = [url for address in component.meter.openmetrics for url in lookup(path, address)]
            meter = Meter(openmetrics=tuple(urls), resources=component.meter.resources)
            component = component.model_copy(update={"meter": meter})
        components.append(component)
    if problems:
        raise PlanError(problems)
    system = plan.system.model_copy(update={"base_url": base[0], "components": tuple(components)})
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
    yield from _repeated("system.components", [c.name for c in plan.system.components])
    yield from _repeated("journeys", [j.name for j in plan.journeys])
    names = [step.name for _, step in plan.steps]
    yield from _repeated("journeys[].steps", names)
    known = {column for feed in plan.feeds for column in feed.columns}
    for i, journey in enumerate(plan.journeys):
        for j, step in enumerate(journey.steps):
            used = {name for text in step.texts for name in template.variables(text)}
            for name in sorted(used - known):
                yield Problem(
                    f"journeys[{i}].steps[{j}]",
                    f"the variable {{{{{name}}}}} in {step.name!r} has no value.",
                    _did_you_mean(name, known, "Add a feed with a column of that name."),
                )
    for i, goal in enumerate(plan.objectives):
        if goal.step is not None and goal.step not in names:
            mend = _did_you_mean(goal.step, names, "Use the name of a step.")
            yield Problem(f"objectives[{i}].step", f"there is no step named {goal.step!r}.", mend)
    if plan.profile.peak_users < 1:
        yield Problem("load", "the load never reaches one user.", "Give a segment some users.")


def _repeated(path: str, names: Sequence[str]) -> Iterable[Problem]:
    for name in sorted({n for n in names if names.count(n) > 1}):
        yield Problem(path, f"the name {name!r} is used more than once.", "Give each its own name.")


def _did_you_mean(name: str, known: Iterable[str], otherwise: str) -> str:
    close = difflib.get_close_matches(name, list(known), n=1)
    return f"Did you mean {close[0]!r}?" if close else otherwise


def _innermost(error: ValidationError) -> list[dict[str, Any]]:
    """The errors without those of a list that is only too short because its items are wrong."""
    found = cast(list[dict[str, Any]], error.errors())
    places = [e["loc"] for e in found]
    return [e for e in found if not any(p != e["loc"] and p[: len(e["loc"])] == e["loc"] for p in places)]


def _problem(error: dict[str, Any]) -> Problem:
    path = ""
    for part in error["loc"]:
        path += f"[{part}]" if isinstance(part, int) else f".{part}" if path else str(part)
    context = error.get("ctx", {})
    mend = context.get("mend") or _MENDS.get(error["type"], "Correct the value.")
    message = error["msg"]
    if error["type"] == "missing":
        message = "this field is missing."
    elif error["type"] == "extra_forbidden":
        message = "there is no such field."
    elif "mend" not in context:
        message = f"{error['input']!r}: {message[0].lower()}{message[1:]}."
    return Problem(path or "document", message, mend)


def _syntax_problem(error: yaml.YAMLError) -> Problem:
    mark = getattr(error, "problem_mark", None)
    path = f"line {mark.line + 1}, column {mark.column + 1}" if mark else "document"
    what = getattr(error, "problem", None) or "it cannot be read"
    mend = "Check the indentation and quotes there."
    return Problem(path, f"this is neither YAML nor JSON: {what}.", mend)
