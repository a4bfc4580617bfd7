"""From text to a checked plan and back."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Literal

from stonekettle.core.objectives import Objective as CoreObjective
from stonekettle.core.throughput import ThroughputGoal
from stonekettle.plan import candidates, scaling, secrecy, system_document, template
from stonekettle.plan.checking import did_you_mean, parse, plain, repeated, validated
from stonekettle.plan.feed import columns_of
from stonekettle.plan.journey import BUILT_IN, impossible_patterns
from stonekettle.plan.load import Fixed
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.quantities import format_duration
from stonekettle.plan.segments import MAX_RATE, MAX_USERS, faults

Kind = Literal["system", "journey", "feed"]
Find = Callable[[Kind, str], Mapping[str, Any] | None]
"""Tells the document of a kind and a name, where a plan only names it."""
_PLACES = {"system": "Systems", "journey": "Journeys", "feed": "Journeys, Feeds"}
MAX_LEVELS = 500


def read(text: str, find: Find | None = None) -> Plan:
    """A plan from YAML or JSON text. Raises :class:`PlanError` with every problem found.

    ``system`` may be a name, a journey ``{journey: name, weight}``, a feed ``{feed: name, take, end}``:
    ``find`` then tells what they are. A journey brings the feeds it names.
    """
    return from_document(parse(text), find)


def from_document(document: object, find: Find | None = None) -> Plan:
    """A plan from plain data, checked as a whole."""
    if not isinstance(document, Mapping):
        mend = "Start with 'name:', 'system:', 'journeys:' and 'load:'."
        raise PlanError([Problem("document", "this is not a plan.", mend)])
    named = document.get("system")
    if isinstance(named, str):
        document = {**document, "system": _found("system", "system", named, find)}
    plan = validated(Plan, _with_named_parts(document, find))
    problems = list(_inconsistencies(plan))
    if problems:
        raise PlanError(problems)
    return plan


def stored(document: Mapping[str, Any]) -> Plan:
    """A plan that was checked when it was kept; rules that came later do not make it unreadable."""
    return validated(Plan, document)


def to_document(plan: Plan) -> dict[str, Any]:
    """Plain data that :func:`from_document` reads back as the same plan."""
    return plain(plan)


def _with_named_parts(document: Mapping[str, Any], find: Find | None) -> dict[str, Any]:
    """The document with the journeys and feeds it only names replaced by what they are."""
    journeys, feeds = document.get("journeys"), document.get("feeds", [])
    if not isinstance(journeys, list) or not isinstance(feeds, list):
        return dict(document)
    whole_journeys, brought = [], dict[str, str]()
    for i, journey in enumerate(journeys):
        if isinstance(journey, Mapping) and set(journey) <= {"journey", "weight"} and "journey" in journey:
            draft = _found(f"journeys[{i}].journey", "journey", str(journey["journey"]), find)
            kept = {key: value for key, value in draft.items() if key not in ("system", "notes", "feeds")}
            brought |= {name: f"journeys[{i}].journey" for name in draft.get("feeds", []) if name not in brought}
            journey = {**kept, **({"weight": journey["weight"]} if "weight" in journey else {})}
        whole_journeys.append(journey)
    whole_feeds = []
    for i, feed in enumerate(feeds):
        if isinstance(feed, Mapping) and set(feed) <= {"feed", "take", "end"} and "feed" in feed:
            brought.pop(str(feed["feed"]), None)
            draft = _found_feed(f"feeds[{i}].feed", str(feed["feed"]), find)
            feed = {**draft, **{key: value for key, value in feed.items() if key != "feed"}}
        whole_feeds.append(feed)
    whole_feeds += [_found_feed(path, name, find) for name, path in brought.items()]
    return {**document, "journeys": whole_journeys, **({"feeds": whole_feeds} if whole_feeds else {})}


def _found_feed(path: str, name: str, find: Find | None) -> dict[str, Any]:
    draft = _found(path, "feed", name, find)
    if not {"csv", "make", "file"} & set(draft):
        raise PlanError([Problem(path, f"the feed {name!r} has no rows yet.", "Upload or make some.")])
    return {key: value for key, value in draft.items() if key != "notes"}


def _found(path: str, kind: Kind, name: str, find: Find | None) -> Mapping[str, Any]:
    if find is None:
        mend = f"Without the web application, write the {kind} out."
        raise PlanError([Problem(path, f"the {kind} {name!r} is only a name here.", mend)])
    found = find(kind, name)
    if found is None:
        mend = f"Describe it under {_PLACES[kind]} first."
        raise PlanError([Problem(path, f"there is no {kind} named {name!r}.", mend)])
    return found


def with_files(plan: Plan, text_of: Callable[[str], str | None]) -> Plan:
    """The plan with the rows of its feeds' files at hand: ``text_of`` tells the CSV text of a digest.
    Raises :class:`PlanError` where it does not know one."""
    feeds, problems = [], []
    for i, feed in enumerate(plan.feeds):
        if feed.file is not None and feed.kept_text is None:
            text = text_of(feed.file.digest)
            if text is None:
                mend = "Upload them, and name that feed here: '- feed: its name'."
                problems.append(Problem(f"feeds[{i}].file", f"the rows of {feed.name!r} are not kept here.", mend))
            else:
                feed = feed.with_text(text)
        feeds.append(feed)
    if problems:
        raise PlanError(problems)
    return plan.model_copy(update={"feeds": tuple(feeds)})


def json_schema() -> dict[str, Any]:
    """JSON Schema (2020-12) of the document."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Plan.model_json_schema()}


def resolved(plan: Plan, directory: Mapping[str, Sequence[str]]) -> Plan:
    """The plan with ``practice://component`` addresses replaced from ``directory``
    (component → addresses of its instances). Raises :class:`PlanError` for unknown components."""
    system = system_document.resolved(plan.system, directory, "system.")
    problems: list[Problem] = []

    def lookup(path: str, address: str) -> str:
        found = system_document.in_practice(address, directory)
        if not found:
            problems.append(system_document.not_in_practice(path, address, directory))
        return found[0] if found else address

    journeys = []
    for i, journey in enumerate(plan.journeys):
        steps = []
        for j, step in enumerate(journey.steps):
            for host in step.elsewhere:
                step = step.moved(host, lookup(f"journeys[{i}].steps[{j}].request", host))
            steps.append(step)
        proof = journey.proof
        if proof is not None and proof.address is not None:
            proof = proof.model_copy(update={"address": lookup(f"journeys[{i}].proof.address", proof.address)})
        journeys.append(journey.model_copy(update={"steps": tuple(steps), "proof": proof}))
    if problems:
        raise PlanError(problems)
    return plan.model_copy(update={"system": system, "journeys": tuple(journeys)})


def core_objectives(plan: Plan) -> tuple[CoreObjective, ...]:
    """The plan's objectives that hold up to some load, with steps as numbers, for the core."""
    numbers = {step.name: i for i, (_, step) in enumerate(plan.steps)}
    found = []
    for number, goal in enumerate(plan.objectives, start=1):
        steps = (numbers[goal.step],) if goal.step else None
        decides = goal.role == "decides"
        if goal.within is not None and goal.percentile is not None:
            found.append(CoreObjective(number, "response", goal.within, goal.percentile, steps, decides=decides))
        elif goal.mean is not None:
            found.append(CoreObjective(number, "mean", goal.mean, steps=steps, decides=decides))
        elif goal.errors is not None:
            found.append(CoreObjective(number, "errors", goal.errors, steps=steps, decides=decides))
        elif goal.apdex is not None and goal.target is not None:
            target = goal.target
            found.append(CoreObjective(number, "apdex", goal.apdex, steps=steps, target_s=target, decides=decides))
    return tuple(found)


def throughput_goals(plan: Plan) -> tuple[ThroughputGoal, ...]:
    """The work that the plan's objectives promise, for the core."""
    numbers = {step.name: i for i, (_, step) in enumerate(plan.steps)}
    return tuple(
        ThroughputGoal(number, goal.throughput, (numbers[goal.step],) if goal.step else None, goal.role == "decides")
        for number, goal in enumerate(plan.objectives, start=1)
        if goal.throughput is not None
    )


def _inconsistencies(plan: Plan) -> Iterable[Problem]:
    yield from system_document.inconsistencies(plan.system, "system.")
    yield from repeated("journeys", [j.name for j in plan.journeys])
    names = [step.name for _, step in plan.steps]
    yield from repeated("journeys[].steps", names)
    yield from repeated("feeds", [feed.name for feed in plan.feeds])
    own = secrecy.origin_of(plan.system.base_url)
    for i, journey in enumerate(plan.journeys):
        if journey.secrets_for not in (None, own):
            message = f"the secrets of {journey.name!r} are for {journey.secrets_for}, the system is at {own}."
            yield Problem(f"journeys[{i}]", message, "Write them anew under Journeys.")
    fed = columns_of(plan.feeds) | set(BUILT_IN)
    for i, journey in enumerate(plan.journeys):
        yield from impossible_patterns(journey.steps, journey.proof, f"journeys[{i}].")
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
        counted = journey.proof.component if journey.proof is not None else None
        if counted is not None and counted not in components:
            mend = did_you_mean(counted, components, "Use the name of a component of the system.")
            yield Problem(f"journeys[{i}].proof.component", f"there is no component named {counted!r}.", mend)
    for i, goal in enumerate(plan.objectives):
        if goal.step is not None and goal.step not in names:
            mend = did_you_mean(goal.step, names, "Use the name of a step.")
            yield Problem(f"objectives[{i}].step", f"there is no step named {goal.step!r}.", mend)
    for i, rule in enumerate(plan.stop_when):
        if rule.step is not None and rule.step not in names:
            mend = did_you_mean(rule.step, names, "Use the name of a step.")
            yield Problem(f"stop_when[{i}].step", f"there is no step named {rule.step!r}.", mend)
        if rule.resource is not None and not any(rule.resource.startswith(f"{name}.") for name in components):
            likely = [f"{name}.cpu" for name in components]
            mend = did_you_mean(rule.resource, likely, "Write a component and its resource, like 'ledger.cpu'.")
            yield Problem(f"stop_when[{i}].resource", f"{rule.resource!r} is of no component of the system.", mend)
    if plan.budget.money is not None and not plan.system.cost_per_hour:
        mend = "Give instances a price per hour in the system's description, or limit the time."
        yield Problem("budget.money", f"no component of {plan.system.name!r} has a price.", mend)
    yield from _inconsistent_timeline(plan)
    yield from _inconsistent_candidates(plan)
    yield from _inconsistent_scaling(plan)
    yield from _inconsistent_groups(plan)


def _inconsistent_timeline(plan: Plan) -> Iterable[Problem]:
    """A timeline changes what its system's operations can, while there is load."""
    changes = {change.name: change for change in plan.system.operations.changes} if plan.system.operations else {}
    components = [component.name for component in plan.system.components]
    for i, due in enumerate(plan.timeline):
        path = f"timeline[{i}]"
        change = changes.get(due.change)
        if change is None:
            mend = did_you_mean(due.change, changes, "Describe it under Systems, with the system's operations.")
            yield Problem(f"{path}.change", f"{plan.system.name!r} knows no change called {due.change!r}.", mend)
            continue
        try:
            change.filled(due.values)
        except PlanError as error:
            yield from (Problem(f"{path}.{one.path}", one.message, one.mend) for one in error.problems)
        if "component" in due.values and due.values["component"] not in components:
            mend = did_you_mean(due.values["component"], components, "Use the name of a component of the system.")
            yield Problem(f"{path}.values.component", f"there is no component named {due.values['component']!r}.", mend)
        if due.at >= plan.planned.duration_s:
            message = f"{format_duration(due.at)} is after the end of the load."
            yield Problem(f"{path}.at", message, f"The load lasts {format_duration(plan.planned.duration_s)}.")
    if plan.timeline and (plan.candidates is not None or plan.scaling is not None):
        message = "what takes turns is brought under load by actions of its own, turn by turn."
        yield Problem("timeline", message, "Leave out one of the two.")


def _inconsistent_candidates(plan: Plan) -> Iterable[Problem]:
    found = plan.candidates
    if found is None:
        return
    if plan.search is not None:
        message = "candidates are measured under the same load, and a search leads each to another one."
        yield Problem("candidates", message, "Write the load out: hold one that all can carry.")
    yield from candidates.inconsistencies(found, plan.system, [feed.name for feed in plan.feeds])
    own = secrecy.origin_of(plan.system.base_url)
    secret = next((journey.name for journey in plan.journeys if journey.secrets_for is not None), None)
    for path, one in found.places:
        if secret is not None and one.address is not None and secrecy.origin_of(one.address) != own:
            message = f"the secrets of {secret!r} are for {own} alone."
            yield Problem(f"candidates.{path}.address", message, "Take a journey without secrets, or one address.")


def _inconsistent_scaling(plan: Plan) -> Iterable[Problem]:
    found = plan.scaling
    if found is None:
        return
    if plan.candidates is not None:
        message = "candidates are compared under one load, and values have loads of their own."
        yield Problem("scaling", message, "Leave out 'candidates', or put it into an experiment of its own.")
    faulty = list(scaling.inconsistencies(found, plan.system))
    yield from faulty
    if faulty:
        return
    most = max(found.times(value) for value in found.values)
    users, rate = (most * sum(g.profile.peak for g in plan.people if g.arrives == arrives) for arrives in (False, True))
    if users > MAX_USERS or rate > MAX_RATE:
        message = f"with the most of it the load would reach {users:g} users and {rate:g} arrivals per second."
        mend = (
            f"Use at most {MAX_USERS} users and {MAX_RATE:g} arrivals per second: lower the load, or 'load_grows: no'."
        )
        yield Problem("scaling.load_grows", message, mend)


def _inconsistent_search(plan: Plan) -> Iterable[Problem]:
    """A search goes by the objectives, and alone."""
    if plan.search is None:
        return
    where = "groups" if plan.groups else "load"
    if not any(goal.role == "decides" and goal.throughput is None for goal in plan.objectives):
        path = "groups[0].users[0]" if plan.groups else "load[0]"
        mend = "Add an objective on response times or errors, for example 'p95: 800 ms'."
        yield Problem(
            f"{path}.search", "a search needs an objective: it looks for the load up to which all hold.", mend
        )
    if len(plan.written) > 1:
        mend = "Put their journeys into the mix of one group."
        yield Problem(where, "beside a search no other group can go: their load would not be known.", mend)
    for i, group in enumerate(plan.groups):
        if not group.arrives and group.journeys_each is not None:
            mend = "Leave out 'journeys_each'."
            yield Problem(f"groups[{i}].journeys_each", "who is searched with stays as long as the search needs.", mend)
        if any(isinstance(part, Fixed) for part in group.mix.values()):
            yield Problem(f"groups[{i}].mix", "a search does not know how many users it will have.", "Give shares.")


def _inconsistent_groups(plan: Plan) -> Iterable[Problem]:
    yield from repeated("groups", [group.name for group in plan.people])
    names = [journey.name for journey in plan.journeys]
    for i, group in enumerate(plan.groups):
        for name in group.mix:
            if name not in names:
                mend = did_you_mean(name, names, "Use the name of a journey.")
                yield Problem(f"groups[{i}].mix", f"there is no journey named {name!r}.", mend)
        counted = sum(part.users for part in group.mix.values() if isinstance(part, Fixed))
        if counted and not any(plan.weights_of(group)) and group.profile.peak > counted:
            message = f"the mix counts {counted} users, the load reaches {group.profile.peak:g}."
            yield Problem(f"groups[{i}].mix", message, "Give one journey a share instead: it gets the others.")
    yield from _inconsistent_search(plan)
    segments = sum(segment.stairs or 1 for group in plan.people for segment in group.profile.segments)
    where = "groups" if plan.groups else "load"
    if segments > MAX_LEVELS:
        mend = f"Use at most {MAX_LEVELS}: climb by more at a time."
        yield Problem(where, f"the profile has {segments} levels.", mend)
    for i, group in enumerate(plan.written):
        told = (f"groups[{i}].arrivals" if group.arrives else f"groups[{i}].users") if plan.groups else "load"
        yield from (Problem(f"{told}[{place}]", *fault) for place, fault in faults(group.told))
        if group.profile.peak <= 0 or (not group.arrives and group.profile.peak < 1):
            path = f"groups[{i}]" if plan.groups else "load"
            least = "an arrival" if group.arrives else "one user"
            yield Problem(path, f"the load never reaches {least}.", "Give a segment some load.")
    users, rate = (sum(g.profile.peak for g in plan.people if g.arrives == arrives) for arrives in (False, True))
    if users > MAX_USERS or rate > MAX_RATE:
        message = f"the load reaches {users:g} users and {rate:g} arrivals per second in all."
        yield Problem(where, message, f"Use at most {MAX_USERS} users and {MAX_RATE:g} arrivals per second.")
