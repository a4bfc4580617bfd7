"""Where does throughput stop growing, and do two ways to that limit agree?"""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.core.load import ONE_MORE, UNITS, LoadKind
from stonekettle.core.saturation import MIN_LEVELS, Saturation
from stonekettle.core.types import Declined
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Grade, Note, declined, resource_text, span


def title(found: Saturation, kind: LoadKind) -> str:
    if found.status == "reached" and found.load is not None:
        return f"Past {n.load(found.load.value, kind)} throughput stops growing"
    if found.status == "peaked" and found.load is not None and found.retrograde is not None:
        fall = n.percent(found.retrograde.drop)
        return f"Throughput peaks at {n.load(found.load.value, kind)} and falls by {fall} beyond"
    if found.status == "blurred":
        return f"Throughput reaches at least {n.rate(found.reached)}"
    if found.status == "near":
        return f"Close to saturation at {n.load(found.at_least, kind)}, but not proved"
    return f"Saturation not reached up to {n.load(found.at_least, kind)}"


def note(analysis: Analysis) -> Note:
    found, kind = analysis.saturation, analysis.load_kind
    if isinstance(found, Declined):
        return declined("saturation", "Saturation point", found, "at least four levels of 10 s with 100 steps each")
    if found.status == "reached":
        return _reached(found, kind)
    if found.status == "peaked":
        return _peaked(found, kind)
    if found.status == "blurred":
        return Note(
            kind="saturation",
            grade="open",
            title=title(found, kind),
            text="It stopped growing there, but too many users were overdue at the generators to tell whether that is "
            "the system's limit. More generators, or one on a machine with room, would decide.",
            details=(_ceiling_line(found, kind),),
            evidence=Evidence(rows=("throughput", "blur"), at=found.at_least),
        )
    if len(analysis.levels) < MIN_LEVELS:
        return _of_few(found, kind)
    extra = " and ".join(n.amount(level) for level in found.next_levels)
    grade: Grade = "strained" if found.status == "near" else "holds"
    return Note(
        kind="saturation",
        grade=grade,
        title=title(found, kind),
        text=f"Over the last levels each further {ONE_MORE[kind]} still brings {n.percent(max(found.efficiency, 0))} "
        f"of the throughput of the first. Levels at {extra} {UNITS[kind]} would decide.",
        details=(_ceiling_line(found, kind),),
        evidence=Evidence(rows=("throughput",), at=found.at_least),
    )


def _of_few(found: Saturation, kind: LoadKind) -> Note:
    *others, last = (n.amount(level) for level in found.next_levels)
    return Note(
        kind="saturation",
        grade="holds",
        title=title(found, kind),
        text="Up to there all that is metered had room, or throughput kept in proportion to the load. Where that ends "
        f"takes {MIN_LEVELS} levels to tell: {', '.join(others)} and {last} {UNITS[kind]} would be the next.",
        evidence=Evidence(rows=("throughput",), at=found.at_least),
    )


def _reached(found: Saturation, kind: LoadKind) -> Note:
    assert found.load is not None  # by status
    assert found.throughput is not None
    limit = found.throughput
    details = [f"Throughput limit {n.rate(limit.value)} ({n.figure(limit.low)}–{n.figure(limit.high)})."]
    if found.load_95 is not None:
        details.append(f"95 % of it is reached at {n.load(found.load_95, kind)}.")
    if found.resource is not None:
        law = f"the utilisation law of {resource_text(found.resource)}"
        told = n.percent(found.plateau_share)
        details.append(f"Of what is known of it, {told} comes from throughput at the levels, the rest from {law}.")
    more = "more users only wait longer" if kind == "users" else "who comes beyond it only waits"
    text = f"Saturation point {n.load(found.load.value, kind)}, {span(found.load)}: {more}."
    return Note(
        kind="saturation",
        grade="saturated",
        title=title(found, kind),
        text=text,
        details=(*details, _ceiling_line(found, kind)),
        evidence=Evidence.around(("throughput",), found.load),
    )


def _peaked(found: Saturation, kind: LoadKind) -> Note:
    assert found.load is not None  # by status
    assert found.throughput is not None
    assert found.retrograde is not None
    peak, reached = found.throughput, found.retrograde.peak_throughput * (1 - found.retrograde.drop)
    highest = n.load(found.at_least, kind)
    return Note(
        kind="saturation",
        grade="saturated",
        title=title(found, kind),
        text=f"It reaches {n.rate(peak.value)} ({n.figure(peak.low)}–{n.figure(peak.high)}) between "
        f"{n.amount(found.load.low)} and {n.load(found.load.high, kind)}; at {highest}, the highest, it "
        f"is {n.rate(reached)}. More load gets less done.",
        details=(_ceiling_line(found, kind),),
        evidence=Evidence.around(("throughput",), found.load),
    )


def _ceiling_line(found: Saturation, kind: LoadKind) -> str:
    ceiling = found.ceiling
    if ceiling is None:
        return "No metered resource grows with load, so no hardware ceiling can be computed."
    return (
        f"By the utilisation law {resource_text(ceiling.key)} is full at {n.rate(ceiling.throughput.value)}, "
        f"some {n.load(ceiling.load.value, kind)} ({span(ceiling.load)})."
    )


def disagreement(analysis: Analysis) -> Note | None:
    """That the plateau and the hardware's ceiling tell different limits."""
    found = analysis.saturation
    if not isinstance(found, Saturation) or not found.ceiling_disagrees or not found.ceiling:
        return None
    assert found.throughput is not None  # only claimed points are cross-checked
    resource = resource_text(found.ceiling.key)
    return Note(
        kind="disagreement",
        grade="strained",
        title="Two ways to the limit disagree",
        text=f"Throughput stopped at {n.rate(found.throughput.value)}, but by its demand {resource} would carry "
        f"{n.rate(found.ceiling.throughput.value)}: the limit lies elsewhere, or demand grew with load.",
        evidence=Evidence(rows=("throughput", f"resource:{found.ceiling.key}")),
    )
