"""What sets the limit?"""

from __future__ import annotations

from collections.abc import Mapping

from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource, ResourceEvidence
from stonekettle.core.load import LoadKind
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Declined
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Grade, Note, declined, resource_text


def title(found: LimitingResource) -> str:
    resource = found.resource
    if found.cause == "generator":
        return "The generators were the limit"
    if resource is not None and found.cause == "overload" and found.in_vain is not None:
        vain = n.percent(found.in_vain)
        return f"Overloaded: {resource_text(resource.key)} is full, and {vain} of its work is thrown away"
    if resource is not None and found.cause == "pool":
        return (
            f"The limit is {resource_text(resource.key)}: {n.percent(resource.utilisation)} of "
            f"{n.figure(resource.servers)} in use, {n.figure(resource.waiting or 0)} requests waiting"
        )
    if resource is not None:
        cost = f", {n.seconds(resource.demand.demand_s.value)} of it spent per step" if resource.demand else ""
        return f"The limit is {resource_text(resource.key)}: {n.percent(resource.utilisation)} busy{cost}"
    if found.cause == "contention":
        return "The limit is contention: throughput falls while no resource is full"
    if found.cause == "unmetered":
        return "The limit is something that no meter sees"
    return "No resource is full yet" if found.evidence else "No component is metered"


def note(analysis: Analysis) -> Note:
    found = analysis.limiting
    if isinstance(found, Declined):
        return declined("limiting", "Limiting resource", found)
    texts: Mapping[str, str] = {
        "generator": f"Of the users present, {n.percent(analysis.measuring.shift)} were overdue or unanswered at the "
        "generators, and no metered resource was full. Where the system saturates is not claimed.",
        "hardware": "It is the first resource to fill as load grows.",
        "overload": "At the highest load answers fail after the work for them was done, wholly or in part. Refusing "
        "early, or shorter queues, would get more done.",
        "pool": "Every connection is taken while the hardware behind has room: requests queue for a place.",
        "contention": "Look for locks, retries or thrashing: work per step grows with concurrency.",
        "unmetered": "Every metered resource has room. A pool without metrics, a lock or an outside service "
        "looks just like this.",
        "none": "The run did not push any resource to its end."
        if found.evidence
        else "What would give out first is not to be told without meters.",
    }
    text = texts[found.cause]
    if found.next_in_line is not None and found.next_throughput is not None:
        text += f" Next in line is {resource_text(found.next_in_line)}, full at {n.rate(found.next_throughput)}."
    saturation = analysis.saturation
    grade: Grade = "holds" if found.cause == "none" else "open" if found.cause == "generator" else "saturated"
    return Note(
        kind="limiting",
        grade=grade,
        title=title(found),
        text=text,
        details=tuple(_line(e, analysis.load_kind) for e in found.evidence[:6]),
        evidence=Evidence(
            rows=(f"resource:{found.resource.key}" if found.resource else "throughput",),
            at=saturation.load.value if isinstance(saturation, Saturation) and saturation.load else None,
        ),
    )


def _line(e: ResourceEvidence, kind: LoadKind) -> str:
    parts = [f"{resource_text(e.key)} {n.percent(e.utilisation)} at the top"]
    if e.demand is not None and e.kind != "pool":
        demand = e.demand.demand_s
        parts.append(
            f"{n.seconds(demand.value)} per step ({n.figure(demand.low * 1000)}–{n.figure(demand.high * 1000)} ms)"
        )
    if e.waiting:
        parts.append(f"{n.figure(e.waiting)} waiting")
    if e.full_from is not None:
        parts.append(f"full from {n.load(e.full_from, kind)}")
    return ", ".join(parts)
