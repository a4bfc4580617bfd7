"""Findings in words: the one place where a conclusion becomes a sentence.

Each note names the evidence that proves it: rows of the plate and a stretch of the load axis.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from stonekettle.core.analysis import BLURRED, GENERATOR, LAWS, Analysis
from stonekettle.core.blur import Measuring
from stonekettle.core.bottleneck import LimitingResource, ResourceEvidence
from stonekettle.core.objectives import BreakingPoint, ComfortLimit, Objective, ObjectiveResult
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Declined, Estimate
from stonekettle.plan.models import Plan
from stonekettle.plan.quantities import format_duration
from stonekettle.report import numbers as n

WORTH_SAYING = 0.02
"""A share of processor time taken by the host that a reader should see at once."""

Grade = Literal["holds", "strained", "saturated", "broken", "open"]


@dataclass(frozen=True)
class Evidence:
    """What proves a note: ``rows`` of the plate, and users from ``low`` to ``high`` with ``at``."""

    rows: tuple[str, ...] = ()
    at: float | None = None
    low: float | None = None
    high: float | None = None


@dataclass(frozen=True)
class Note:
    """One conclusion in words. ``kind`` is stable, for programs and tests."""

    kind: str
    grade: Grade
    title: str
    text: str
    details: tuple[str, ...] = ()
    evidence: Evidence = field(default_factory=Evidence)

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def verdict(analysis: Analysis, plan: Plan) -> str:
    """The answer in one or two lines: what is claimed, then what measuring cost."""
    parts = []
    comfort, point, limiting = analysis.comfort, analysis.saturation, analysis.limiting
    if isinstance(comfort, ComfortLimit):
        parts.append(_comfort_title(comfort) + ".")
    if isinstance(point, Saturation):
        parts.append(_saturation_title(point) + ".")
    if isinstance(limiting, LimitingResource) and limiting.cause != "none":
        parts.append(_limiting_title(limiting) + ".")
    withheld = analysis.measuring.withheld
    if withheld and parts:
        parts.append(f"Not trustworthy: the {' and the '.join(withheld)}.")
    elif withheld:
        parts.append(f"Not trustworthy: {_withheld_because(analysis)}")
    return " ".join(parts) or "Inconclusive: too few levels were measured to answer."


def _withheld_because(analysis: Analysis) -> str:
    reasons = {d.reason for d in (analysis.comfort, analysis.saturation) if isinstance(d, Declined)}
    if LAWS in reasons:
        return "users, throughput and response time do not fit together. Nothing is claimed about the system."
    return f"{_did(analysis.measuring)}. Nothing is claimed about the system."


def notes(analysis: Analysis, plan: Plan) -> tuple[Note, ...]:
    """All findings as margin notes, the most important first."""
    found = [
        _comfort(analysis, plan),
        _saturation(analysis),
        _limiting(analysis),
        _breaking(analysis),
        _disagreement(analysis),
        _laws(analysis),
        _pauses(analysis),
        _arrivals(analysis),
        _measuring(analysis),
    ]
    return tuple(note for note in found if note is not None)


def objective_text(objective: Objective, plan: Plan) -> str:
    """An objective as a phrase: "95 % of Buy ticket within 2 s"."""
    subject = plan.steps[objective.steps[0]][1].name if objective.steps else "all steps"
    if objective.kind == "errors":
        return f"errors of {subject} under {objective.limit * 100:g} %"
    return f"{objective.percent:g} % of {subject} within {format_duration(objective.limit)}"


def _span(estimate: Estimate) -> str:
    low, high = n.users(estimate.low), n.users(estimate.high)
    return f"{round(estimate.confidence * 100)} % interval {low}–{high}"


def _comfort_title(comfort: ComfortLimit) -> str:
    if comfort.status == "holds":
        return f"Holds at least {n.users(comfort.tested_users)} users ({n.rate(comfort.throughput)})"
    assert comfort.users is not None  # by status
    if comfort.status == "below":
        return f"Objectives are broken at the lowest load measured, {n.users(comfort.users.value)} users"
    return f"Holds {n.users(comfort.users.value)} users ({n.rate(comfort.throughput)}), {_span(comfort.users)}"


def _comfort(analysis: Analysis, plan: Plan) -> Note | None:
    comfort = analysis.comfort
    if isinstance(comfort, Declined):
        if comfort.reason == "no objectives":
            return Note(
                "comfort",
                "open",
                "No objectives, no comfort limit",
                "Give the experiment objectives, and a run will say up to which load they hold.",
            )
        return _declined("comfort", "Comfort limit", comfort)
    details = tuple(_objective_line(result, plan) for result in comfort.results)
    if comfort.status == "holds":
        text = "Every objective held at every level. The limit lies beyond the load of this run."
        return Note("comfort", "holds", _comfort_title(comfort), text, details, Evidence(("response", "errors")))
    assert comfort.users is not None  # by status
    assert comfort.deciding is not None
    row = "errors" if comfort.deciding.kind == "errors" else "response"
    return Note(
        "comfort",
        "broken" if comfort.status == "below" else "strained",
        _comfort_title(comfort),
        f"Beyond it the first objective breaks: {objective_text(comfort.deciding, plan)}.",
        details,
        Evidence((row,), comfort.users.value, comfort.users.low, comfort.users.high),
    )


def _objective_line(result: ObjectiveResult, plan: Plan) -> str:
    goal = objective_text(result.objective, plan)
    if result.users is None:
        return f"○ {goal}: holds to {n.users(result.level_users[-1])} users"
    if result.broken_everywhere:
        return f"✕ {goal}: broken at every level"
    return f"✕ {goal}: holds to {n.users(result.users.value)} users ({_span(result.users)})"


def _saturation_title(found: Saturation) -> str:
    if found.status == "reached" and found.users is not None:
        return f"Past {n.users(found.users.value)} users throughput stops growing"
    if found.status == "blurred":
        return f"Throughput reaches at least {n.rate(found.reached)}"
    if found.status == "near":
        return f"Close to saturation at {n.users(found.at_least_users)} users, but not proved"
    return f"Saturation not reached up to {n.users(found.at_least_users)} users"


def _saturation(analysis: Analysis) -> Note:
    found = analysis.saturation
    if isinstance(found, Declined):
        return _declined("saturation", "Saturation point", found)
    title = _saturation_title(found)
    ceiling = found.ceiling
    ceiling_line = (
        f"By the utilisation law {_resource(ceiling.key)} is full at {n.rate(ceiling.throughput.value)}, "
        f"some {n.users(ceiling.users.value)} users ({_span(ceiling.users)})."
        if ceiling
        else "No metered resource grows with load, so no hardware ceiling can be computed."
    )
    if found.status == "reached" and found.users is not None and found.throughput is not None:
        details = [
            f"Throughput limit {n.rate(found.throughput.value)} "
            f"({n.figure(found.throughput.low)}–{n.figure(found.throughput.high)}).",
            ceiling_line,
        ]
        if found.users_95 is not None:
            details.insert(1, f"95 % of it is reached at {n.users(found.users_95)} users.")
        text = (
            f"Saturation point {n.users(found.users.value)} users, {_span(found.users)}: more users only wait longer."
        )
        if found.retrograde is not None:
            text += (
                f" Worse, throughput falls by {n.percent(found.retrograde.drop)} from its peak at "
                f"{n.users(found.retrograde.peak_users)} users."
            )
        evidence = Evidence(("throughput",), found.users.value, found.users.low, found.users.high)
        return Note("saturation", "saturated", title, text, tuple(details), evidence)
    if found.status == "blurred":
        text = (
            "It stopped growing there, but too many users were overdue at the generators for that to be the "
            "system's limit. More generators, or one on a machine with room, would decide."
        )
        evidence = Evidence(("throughput", "blur"), found.at_least_users)
        return Note("saturation", "open", title, text, (ceiling_line,), evidence)
    extra = " and ".join(n.users(level) for level in found.next_levels)
    text = (
        f"Over the last levels each further user still brings {n.percent(max(found.efficiency, 0))} of the "
        f"throughput of the first. Levels at {extra} users would decide."
    )
    grade: Grade = "strained" if found.status == "near" else "holds"
    evidence = Evidence(("throughput",), found.at_least_users)
    return Note("saturation", grade, title, text, (ceiling_line,), evidence)


def _resource(key: str) -> str:
    component, _, name = key.partition(".")
    return f"`{component}` {'CPU' if name == 'cpu' else name}"


def _limiting_title(found: LimitingResource) -> str:
    resource = found.resource
    if found.cause == "generator":
        return "The generators were the limit"
    if resource is not None and found.cause == "pool":
        return (
            f"The limit is {_resource(resource.key)}: {n.percent(resource.utilisation)} of "
            f"{n.figure(resource.servers)} in use, {n.figure(resource.waiting or 0)} requests waiting"
        )
    if resource is not None:
        cost = f", {n.seconds(resource.demand.demand_s.value)} of it spent per step" if resource.demand else ""
        return f"The limit is {_resource(resource.key)}: {n.percent(resource.utilisation)} busy{cost}"
    if found.cause == "contention":
        return "The limit is contention: throughput falls while no resource is full"
    if found.cause == "unmetered":
        return "The limit is something that no meter sees"
    return "No resource is full yet" if found.evidence else "No component is metered"


def _limiting(analysis: Analysis) -> Note | None:
    found = analysis.limiting
    if isinstance(found, Declined):
        return _declined("limiting", "Limiting resource", found)
    title = _limiting_title(found)
    details = [_evidence_line(e) for e in found.evidence[:6]]
    following = ""
    if found.next_in_line is not None and found.next_throughput is not None:
        following = f"Next in line is {_resource(found.next_in_line)}, full at {n.rate(found.next_throughput)}."
    texts: Mapping[str, str] = {
        "generator": f"Of the users present, {n.percent(analysis.measuring.shift)} were overdue or unanswered at the "
        "generators, and no metered resource was full. Where the system saturates is not claimed.",
        "hardware": "It is the first resource to fill as load grows.",
        "pool": "Every connection is taken while the hardware behind has room: requests queue for a place.",
        "contention": "Look for locks, retries or thrashing: work per step grows with concurrency.",
        "unmetered": "Every metered resource has room. A pool without metrics, a lock or an outside service "
        "looks just like this.",
        "none": "The run did not push any resource to its end."
        if found.evidence
        else "What would give out first is not to be told without meters.",
    }
    rows = tuple(f"resource:{found.resource.key}" for _ in [0] if found.resource is not None)
    saturation = analysis.saturation
    at = saturation.users.value if isinstance(saturation, Saturation) and saturation.users else None
    grade: Grade = "holds" if found.cause == "none" else "open" if found.cause == "generator" else "saturated"
    return Note(
        "limiting",
        grade,
        title,
        " ".join(filter(None, [texts[found.cause], following])),
        tuple(details),
        Evidence(rows or ("throughput",), at),
    )


def _evidence_line(e: ResourceEvidence) -> str:
    parts = [f"{_resource(e.key)} {n.percent(e.utilisation)} at the top"]
    if e.demand is not None and e.kind != "pool":
        demand = e.demand.demand_s
        parts.append(
            f"{n.seconds(demand.value)} per step ({n.figure(demand.low * 1000)}–{n.figure(demand.high * 1000)} ms)"
        )
    if e.waiting:
        parts.append(f"{n.figure(e.waiting)} waiting")
    if e.saturated_at_users is not None:
        parts.append(f"full from {n.users(e.saturated_at_users)} users")
    return ", ".join(parts)


def _breaking(analysis: Analysis) -> Note | None:
    found = analysis.breaking
    first = tuple(
        f"First {e.kind}: at {n.seconds(e.second)} with {n.users(e.users)} users; {e.count} in all."
        for e in analysis.first_errors[:5]
    )
    if isinstance(found, BreakingPoint):
        return Note(
            "breaking",
            "broken",
            f"Breaks between {n.users(found.users.low)} and {n.users(found.users.high)} users",
            f"Errors pass {n.percent(found.limit)} and stay there: {n.percent(found.error_ratio)} at "
            f"{n.users(found.users.value)} users.",
            first,
            Evidence(("errors",), found.users.value, found.users.low, found.users.high),
        )
    if first:
        return Note(
            "breaking",
            "strained",
            "Some errors, under the limit",
            "The error ratio never passed the limit for good.",
            first,
            Evidence(("errors",)),
        )
    if found.reason == "not reached":
        return Note(
            "breaking",
            "holds",
            "No errors",
            f"Every step succeeded up to {n.users(found.at_least_users or 0)} users.",
            (),
            Evidence(("errors",)),
        )
    return None


def _disagreement(analysis: Analysis) -> Note | None:
    found = analysis.saturation
    if not isinstance(found, Saturation) or not found.ceiling_disagrees or not found.ceiling:
        return None
    assert found.throughput is not None  # only claimed points are cross-checked
    return Note(
        "disagreement",
        "strained",
        "Two ways to the limit disagree",
        f"Throughput stopped at {n.rate(found.throughput.value)}, but by its demand {_resource(found.ceiling.key)} "
        f"would carry {n.rate(found.ceiling.throughput.value)}: the limit lies elsewhere, or demand grew with load.",
        (),
        Evidence(("throughput", f"resource:{found.ceiling.key}")),
    )


def _laws(analysis: Analysis) -> Note | None:
    if not analysis.little:
        return None
    broken = [check for check in analysis.little if check.broken]
    if not broken:
        return Note(
            "laws",
            "holds",
            "The laws hold",
            f"Little's law agrees with the data at all {len(analysis.little)} levels: "
            "users, throughput and response time tell one story.",
            (),
            Evidence(("throughput", "response")),
        )
    details = tuple(
        f"At {n.users(analysis.levels[check.level - 1].users)} users: {n.percent(abs(check.gap))} of the users are "
        f"{'unaccounted for' if check.gap > 0 else 'counted twice'}."
        for check in broken
    )
    return Note(
        "laws",
        "strained",
        f"The laws are broken at {len(broken)} of {len(analysis.little)} levels",
        "Users, throughput and response time do not fit together there; read those levels with care.",
        details,
        Evidence(("throughput", "response"), analysis.levels[broken[0].level - 1].users),
    )


def _pauses(analysis: Analysis) -> Note | None:
    paused = [check for check in analysis.little if check.pause_s > 0]
    if not paused:
        return None
    longest = max(paused, key=lambda check: check.pause_s)
    users = analysis.levels[longest.level - 1].users
    return Note(
        "pauses",
        "strained",
        f"Nobody could go on for {n.seconds(longest.pause_s)}",
        f"At {n.users(users)} users no step started for so long, though the generators ran: everybody waited for "
        "the system.",
        tuple(
            f"At {n.users(analysis.levels[check.level - 1].users)} users for {n.seconds(check.pause_s)}."
            for check in paused
        ),
        Evidence(("throughput", "response"), users),
    )


def _arrivals(analysis: Analysis) -> Note | None:
    """Of people who come by themselves: whether they came as ordered, and were let in."""
    came = analysis.arriving
    if came is None or came.ordered <= 0:
        return None
    away = came.turned_away / max(1.0, came.started + came.turned_away)
    text = f"{came.started:.0f} people arrived and were let in, {came.ordered:.0f} were ordered."
    if away > WORTH_SAYING:
        text += f" {came.turned_away:.0f} were turned away, since as many as may be there at a time were there already."
        return Note("arrivals", "strained", f"{n.percent(away)} of those who arrived were turned away", text)
    # Random arrivals are as many as ordered within their own chance.
    missing = came.ordered - came.started - came.turned_away
    if abs(missing) > max(0.02 * came.ordered, 4 * math.sqrt(came.ordered)):
        return Note("arrivals", "strained", f"{'Fewer' if missing > 0 else 'More'} people arrived than ordered", text)
    return Note("arrivals", "holds", "People arrived as ordered", text)


def _did(measuring: Measuring) -> str:
    """What the generators did to the figures, as a phrase: "measuring shifted the load by …"."""
    shift = f"measuring shifted the load by at most {n.percent(measuring.shift)}"
    if measuring.p95_blur_s > 0:
        return f"{shift} and blurred a 95th percentile by at most {n.seconds(measuring.p95_blur_s)}"
    return shift


def _measuring(analysis: Analysis) -> Note:
    found = analysis.measuring
    did = _did(found)
    text = [f"{did[0].upper()}{did[1:]}."]
    if found.stolen > WORTH_SAYING:
        text.append(f"The host took {n.percent(found.stolen)} of the processors away.")
    if found.cut_share:
        text.append(
            f"The generators stood still {n.counted(found.stalls, 'time')}, for {n.seconds(found.longest_stall_s)} at "
            f"most; {n.percent(found.cut_share)} of the response times, those around it, are left out."
        )
    if found.withheld:
        text.append(f"Not claimed for it: the {' and the '.join(found.withheld)}.")
    details = [
        f"The host took {n.percent(found.stolen)} of the processors away.",
        f"Generators used up to {n.percent(found.cpu)} of their core, waited {n.percent(found.run_queue)} of the time "
        f"for one, and were interrupted {n.figure(found.switches)} times a second.",
    ]
    if found.stalls:
        details.append(
            f"They stood still {n.counted(found.stalls, 'time')} for over 20 ms, {n.seconds(found.stalled_s)} in all, "
            f"{n.seconds(found.longest_stall_s)} at most."
        )
    if found.gap_seconds:
        details.append(f"{n.counted(found.gap_seconds, 'second')} without data.")
    titles: Mapping[str, tuple[Grade, str]] = {
        "sound": ("holds", "Measured soundly"),
        "blurred": ("strained", "Blurred by measuring: claims stand, wider"),
        "not trustworthy": ("broken", "Not trustworthy in part" if _claims_stand(analysis) else "Not trustworthy"),
    }
    grade, title = titles[found.verdict]
    return Note("measuring", grade, title, " ".join(text), tuple(details), Evidence(("blur",)))


def _claims_stand(analysis: Analysis) -> bool:
    return isinstance(analysis.comfort, ComfortLimit) or isinstance(analysis.saturation, Saturation)


def _declined(kind: str, subject: str, declined: Declined) -> Note:
    reasons: Mapping[str, str] = {
        "too few levels": "It needs at least four levels of 10 s with 100 steps each."
        if kind == "saturation"
        else "It needs a level of 10 s with 100 steps.",
        "no successful requests": "No step succeeded.",
        BLURRED: "Measuring blurred it by more than the answer can bear: repeat it where the generators have room.",
        GENERATOR: "The generators did not deliver the load that was ordered: add generators, or repeat the run where "
        "they have room.",
        LAWS: "Users, throughput and response time do not fit together at too many levels.",
    }
    return Note(kind, "open", f"{subject}: no answer", reasons.get(declined.reason, declined.reason), (), Evidence())
