"""The checks of a run in words: what each asks, what was found at each level, and what it means where it fails."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence

from pydantic import BaseModel, ConfigDict

from stonekettle.core import health as core
from stonekettle.core.analysis import Analysis
from stonekettle.core.health import Check, CheckKind, Standing
from stonekettle.core.levels import MIN_COMPLETIONS, MIN_HOLD_S, Level
from stonekettle.core.orders import PlannedLevel
from stonekettle.plan import advice
from stonekettle.plan.models import Plan
from stonekettle.plan.template import variables
from stonekettle.report import numbers as n
from stonekettle.report import proof
from stonekettle.report.notes import measuring
from stonekettle.report.notes.note import Grade, resource_text
from stonekettle.report.proof import ProofResult

MOST_NAMED = 3


class _Told(BaseModel):
    model_config = ConfigDict(frozen=True)


class CheckedLevel(_Told):
    """A level as the head of a column: its ``load`` in words."""

    number: int
    load: str


class CheckOfLevel(_Told):
    level: int
    grade: Grade
    told: str


class LevelCheck(_Told):
    """One check of every level: what it ``asks``, and what it ``means`` where it fails."""

    kind: CheckKind
    title: str
    asks: str
    means: str
    levels: tuple[CheckOfLevel, ...]


class RunCheck(_Told):
    """A check of the run as a whole."""

    kind: str
    title: str
    grade: Grade
    text: str


class Health(_Told):
    levels: tuple[CheckedLevel, ...]
    checks: tuple[LevelCheck, ...]
    run: tuple[RunCheck, ...]


_GRADES: Mapping[Standing, Grade] = {"holds": "holds", "strained": "strained", "broken": "broken", "unknown": "open"}

_ABOUT: Mapping[CheckKind, tuple[str, str, str]] = {
    "ordered": (
        "Load as ordered",
        "Was the load there that was ordered?",
        "The level tells about the load that was there, not about the one ordered. Where generators were short of it, "
        "add some.",
    ),
    "late": (
        "People on time",
        "How many of the users present were not load, as the generators had not got round to them?",
        "The load that the system felt is known less exactly by so much, and so is all that is told against it.",
    ),
    "little": (
        "Little's law",
        "Do users, throughput, response and think time tell one story?",
        "Somebody is counted twice or not at all: people who wait elsewhere than the plan says, think times other than "
        "ordered, much begun or ended at the ends of the level. Read its throughput and response time with care.",
    ),
    "work": (
        "Utilisation law",
        "Does a step cost each resource as much as at the other levels?",
        "What a step costs changed: a cache that filled or was emptied, a job in the background, retries, another mix. "
        "Demands and ceilings are a mean over both.",
    ),
    "pauses": (
        "No standstill",
        "Did somebody always go on?",
        "The system, or something before it, answered nobody for so long: a collection of garbage, a restart, a "
        "lock on everything. A mean over the level hides it.",
    ),
    "blur": (
        "Sharp percentiles",
        "How far apart are the ends between which the 95th percentile lies?",
        "The generators looked late by so much. Claims are made at both ends; give generators room to have it sharper.",
    ),
    "tail": (
        "Enough answers",
        "On how many answers beyond it does the 95th percentile rest?",
        "With so few it differs from run to run, and a 99th percentile means next to nothing. Hold the level longer.",
    ),
    "gaps": (
        "Seconds that count",
        "How much of the level is left out once the system had settled?",
        "Without data, beside a stall of the generators, or left out by somebody: the rest must speak for the level.",
    ),
    "meters": (
        "Metrics read",
        "Was every resource read that other levels have?",
        "What was not read cannot be named as the limit, and the law of its use lacks this level.",
    ),
}


def told(
    analysis: Analysis, plan: Plan, ordered: Sequence[PlannedLevel], proofs: Sequence[ProofResult], seconds: float
) -> Health:
    """All checks of a run of so many ``seconds`` with these findings; ``ordered`` are its levels as they were ordered
    in the end."""
    levels = {level.number: level for level in analysis.levels}
    of_levels = core.of_levels(analysis)
    return Health(
        levels=tuple(
            CheckedLevel(number=level.number, load=n.load(level.load.delivered, analysis.load_kind))
            for level in analysis.levels
        ),
        checks=tuple(_of_kind(kind, of_levels, levels, analysis) for kind in _ABOUT if _any(kind, of_levels)),
        run=(
            _levels(analysis, ordered, seconds),
            _generators(analysis),
            _host(analysis),
            _data(plan),
            *_work_done(plan, proofs),
        ),
    )


def _any(kind: CheckKind, checks: Iterable[Check]) -> bool:
    return any(check.kind == kind for check in checks)


def _of_kind(kind: CheckKind, checks: Iterable[Check], levels: Mapping[int, Level], analysis: Analysis) -> LevelCheck:
    title, asks, means = _ABOUT[kind]
    found = [
        CheckOfLevel(level=one.level, grade=_GRADES[one.standing], told=_in_words(one, levels[one.level], analysis))
        for one in checks
        if one.kind == kind
    ]
    return LevelCheck(kind=kind, title=title, asks=asks, means=means, levels=tuple(found))


def _in_words(check: Check, level: Level, analysis: Analysis) -> str:
    figure, bound = n.percent(abs(check.figure)), n.percent(check.bound)
    if check.kind == "ordered":
        kind = analysis.load_kind
        return f"{n.load(level.load.delivered, kind)} of {n.load(level.load.ordered, kind)} ordered."
    if check.kind == "late":
        return f"{figure} of the users present were overdue or not looked after; up to {bound} is nothing."
    if check.kind == "little":
        which = "unaccounted for" if check.figure > 0 else "counted twice"
        return f"{figure} of the users are {which}; chance and settling make up to {bound}."
    if check.kind == "work":
        return _work(check)
    if check.kind == "pauses":
        return f"No step began for {n.seconds(check.figure)}." if check.figure > 0 else "No longer gap than by chance."
    if check.kind == "blur":
        if math.isnan(check.figure):
            return "No step succeeded."
        return f"Between {n.seconds(level.p95_low_s)} and {n.seconds(level.p95_s)}, {figure} apart."
    if check.kind == "tail":
        return f"{n.users(check.figure)} answers beyond it."
    if check.kind == "gaps":
        seconds = level.seconds_used + level.seconds_left_out
        return f"{level.seconds_left_out} of {n.counted(seconds, 'second')} are left out."
    if check.standing == "holds":
        return "All were read."
    more = round(check.figure) - 1
    return f"{resource_text(check.key)}{f' and {more} more' if more else ''} not read."


def _work(check: Check) -> str:
    if check.standing == "unknown":
        return "Not known: its resources were full, or fewer than three other levels tell what a step costs."
    where = resource_text(check.key)
    much = f"{n.percent(abs(check.figure))} {'more' if check.figure > 0 else 'less'} for a step than the other levels"
    return f"{where} worked {much}; chance makes up to {n.percent(check.bound)}."


def _levels(analysis: Analysis, ordered: Sequence[PlannedLevel], seconds: float) -> RunCheck:
    """Which of the levels ordered are none of the findings': a level short of its load all the time is none."""
    wanted = [one for one in ordered if one.users + one.rate > 0 and one.start_s < seconds]
    there = {level.start_s for level in analysis.levels}
    missing = [one for one in wanted if one.start_s not in there]
    text = f"{len(wanted) - len(missing)} of {n.counted(len(wanted), 'level')} ordered are measured."
    if missing:
        first = ", ".join(
            f"{n.load(one.users + one.rate, analysis.load_kind)} from {n.seconds(one.start_s)} on"
            for one in missing[:MOST_NAMED]
        )
        more = f" and {len(missing) - MOST_NAMED} more" if len(missing) > MOST_NAMED else ""
        text += (
            f" Not {first}{more}: held under {MIN_HOLD_S:g} s, under {MIN_COMPLETIONS} steps, or the load was never "
            "within 2 % of what was ordered."
        )
    return RunCheck(kind="levels", title="Levels", grade="strained" if missing else "holds", text=text)


def _generators(analysis: Analysis) -> RunCheck:
    note = measuring.note(analysis)
    return RunCheck(kind="generators", title="Generators", grade=note.grade, text=f"{note.title}. {note.text}")


def _host(analysis: Analysis) -> RunCheck:
    stolen = analysis.measuring.stolen
    text = f"{n.percent(stolen)} of the generators' processors went to others on the same host."
    if stolen > measuring.WORTH_SAYING:
        text += " What that did to the figures is in their blur; it took nothing from them beyond that."
    return RunCheck(
        kind="host", title="Host", grade="strained" if stolen > measuring.WORTH_SAYING else "holds", text=text
    )


def _data(plan: Plan) -> RunCheck:
    same = advice.same_data(plan)
    alike = [
        journey.name
        for journey in plan.journeys
        if not {name for step in journey.active for text in step.texts for name in variables(text)}
    ]
    title, kind = "Data of the users", "data"
    if same:
        return RunCheck(kind=kind, title=title, grade="strained", text=" ".join(same))
    if alike:
        text = (
            f"Every user of {', '.join(map(repr, alike))} sends the same requests, without any value of their own. If "
            "the system keeps answers, it had less to do than with real users."
        )
        return RunCheck(kind=kind, title=title, grade="open", text=text)
    return RunCheck(
        kind=kind,
        title=title,
        grade="holds",
        text="Every journey sends values from feeds, from answers, or of each user.",
    )


def _work_done(plan: Plan, proofs: Sequence[ProofResult]) -> list[RunCheck]:
    found = []
    for one in proofs:
        note = proof.note(one)
        found.append(RunCheck(kind="work done", title="Work done", grade=note.grade, text=f"{note.title}. {note.text}"))
    unproven = [journey.name for journey in plan.journeys if journey.proof is None]
    if unproven:
        text = (
            f"Only answers say that the work of {', '.join(map(repr, unproven))} was done: no count of the server is "
            "held against the journeys completed. Give them a proof: a metric or an address that counts."
        )
        found.append(RunCheck(kind="work done", title="Work done", grade="open", text=text))
    return found
