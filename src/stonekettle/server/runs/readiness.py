"""What stands in the way of an experiment's run, before anybody presses start: the same checks, told one by one."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from typing import Literal

from ninja import Schema

from stonekettle.plan import advice
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError
from stonekettle.report.numbers import figure, percent
from stonekettle.server.access import halting
from stonekettle.server.access.roles import Actor, Forbidden, Role
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import generator_room, rules
from stonekettle.server.systems import checks, runners
from stonekettle.server.targets import allowances

State = Literal["ready", "warns", "blocks"]
SHOWN = 4
"""So many silent meters or untried journeys are told by name."""


class Line(Schema):
    """One thing that a run needs: how it stands in a sentence, what to do, and where (a place of ours, or "")."""

    key: str
    state: State
    text: str
    mend: str = ""
    link: str = ""


class Readiness(Schema):
    """Everything a run needs; it ``may_start`` where nothing blocks."""

    lines: list[Line]
    may_start: bool


def of(actor: Actor, experiment: Experiment) -> Readiness:
    """How ready an experiment is, for somebody. Meters are asked now, in two seconds at most."""
    try:
        plan = experiments.current_plan(experiment)
    except PlanError as error:
        problem = error.problems[0]
        edit = f"/experiments/{experiment.pk}?as=text"
        broken = Line(
            key="plan", state="blocks", text=f"{problem.path}: {problem.message}", mend=problem.mend, link=edit
        )
        return Readiness(lines=[broken], may_start=False)
    lines = [
        *_permissions(actor, experiment, plan),
        *_meters(experiment, plan),
        *_generators(plan),
        *_journeys(experiment),
        *_advice(plan),
    ]
    may_start = all(line.state != "blocks" for line in lines)
    return Readiness(lines=lines, may_start=may_start)


def _permissions(actor: Actor, experiment: Experiment, plan: Plan) -> Iterator[Line]:
    """What the start itself asks, in its order."""
    if not actor.may(Role.PLANNER):
        yield _asked("role", lambda: actor.check(Role.PLANNER), "")
    yield _asked("halt", halting.check, "Load is not halted.")
    system = f"/systems/{experiment.system_id}" if experiment.system_id else ""
    yield _asked("runners", lambda: runners.check(actor, plan.addresses), f"You may run on {plan.system.name}.", system)
    yield _asked("targets", lambda: allowances.check_start(plan), "Load may go there, as much and as long.", "/targets")
    yield _asked("free", lambda: rules.check_free(plan), f"No other run is under way on {plan.system.name}.", "/runs")


def _asked(key: str, check: Callable[[], None], ready: str, link: str = "") -> Line:
    try:
        check()
    except PlanError as error:
        problem = error.problems[0]
        return Line(key=key, state="blocks", text=_sentence(problem.message), mend=problem.mend, link=link)
    except (Conflict, Forbidden) as error:
        return Line(key=key, state="blocks", text=str(error), link=link)
    return Line(key=key, state="ready", text=ready)


def _meters(experiment: Experiment, plan: Plan) -> Iterator[Line]:
    found = checks.scraped(plan.system)
    yield from _stop_rules(plan, found)
    if not found:
        return  # that nothing is metered is told among the advice
    silent = [check for check in found if check.state == "silent"]
    link = f"/systems/{experiment.system_id}" if experiment.system_id else ""
    # No block: what is silent at this moment may report at the next, when the run asks itself.
    for check in silent[:SHOWN]:
        mend = "A run ends before its load if it is still silent then."
        yield Line(key="meters", state="warns", text=_sentence(check.text), mend=mend, link=link)
    if len(silent) > SHOWN:
        more = f"{len(silent) - SHOWN} more sources of meters do not report."
        yield Line(key="meters", state="warns", text=more, link=link)
    if not silent:
        count = "Its meter reports" if len(found) == 1 else f"All {len(found)} sources of meters report"
        yield Line(key="meters", state="ready", text=f"{count}.")


def _stop_rules(plan: Plan, found: Sequence[checks.MeterCheck]) -> Iterator[Line]:
    """Rules on resources that no meter tells of now. What is pushed or told by responses may come with the load."""
    told = {f"{check.component}.{name}" for check in found for name in check.resources}
    scraped = {check.component for check in found}
    for key in dict.fromkeys(rule.resource for rule in plan.stop_when if rule.resource is not None):
        if key not in told and any(key.startswith(f"{name}.") for name in scraped):
            mend = f"Its meters tell: {', '.join(sorted(told))}." if told else "Look at its meters."
            text = f"No meter tells {key}: the stop rule on it would never end a run."
            yield Line(key="stop rules", state="warns", text=text, mend=mend)


def _generators(plan: Plan) -> Iterator[Line]:
    asked, known = generator_room.asked_of_each(plan), generator_room.capacity()
    if known is None or not math.isfinite(asked):
        return  # nothing was measured yet, or people do not think: then they ask as fast as the answers come
    share = f"{percent(generator_room.USED)} of a core"
    each = f"at most {figure(asked)} requests/s are asked of each; in run {known.run} one did {figure(known.rate)} for "
    if asked <= known.rate:
        yield Line(key="generators", state="ready", text=f"The generators have room: {each}{share}.")
    else:
        mend = "Start more of them with ./kettle generator or KETTLE_GENERATORS, or send less."
        text = f"The generators may be the limit: {each}{share}."
        yield Line(key="generators", state="warns", text=text, mend=mend)


def _journeys(experiment: Experiment) -> Iterator[Line]:
    untried = experiments.untried(experiment.current)
    for journey in untried[:SHOWN]:
        text = f"{journey.name} has not passed a trial as it is now."
        link = f"/journeys/{journey.pk}"
        yield Line(key="journeys", state="warns", text=text, mend="Try it once before sending load.", link=link)
    if len(untried) > SHOWN:
        yield Line(key="journeys", state="warns", text=f"{len(untried) - SHOWN} more journeys have not passed a trial.")
    if not untried and experiment.current.references.get("journey"):
        yield Line(key="journeys", state="ready", text="Every journey it names passed since its last change.")


def _advice(plan: Plan) -> Iterator[Line]:
    for text in advice.of(plan):
        yield Line(key="advice", state="warns", text=text)


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}"
