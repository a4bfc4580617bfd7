"""Every server at the highest load: which is at its end, which near it, which has room."""

from __future__ import annotations

from collections.abc import Sequence

from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import ResourceEvidence
from stonekettle.core.load import LoadKind
from stonekettle.core.types import Declined
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Grade, Note
from stonekettle.report.processes import Processes

NEAR = 0.7
"""A resource that is so busy at the highest throughput is near its end."""
MOST_NAMED = 3


def note(analysis: Analysis, processes: Processes | None = None) -> Note | None:
    """The checklist, with the ``processes`` that take the processors where they are known; None where nothing was
    metered, or the measurements contradict each other."""
    found = analysis.limiting
    if isinstance(found, Declined) or not found.evidence:
        return None
    servers: dict[str, list[ResourceEvidence]] = {}
    for resource in found.evidence:
        servers.setdefault(resource.component, []).append(resource)
    graded = sorted(
        ((_grade(resources), component) for component, resources in servers.items()),
        key=lambda pair: -_ORDER.index(pair[0]),
    )
    worst = graded[0][0]
    return Note(
        kind="servers",
        grade=worst,
        title=_title(graded),
        text=_SHORT_OF_LOAD if found.cause == "generator" else _AT_THE_TOP,
        details=tuple(
            _line(component, grade, servers[component], analysis.load_kind)
            + _taking((processes or {}).get(component, ()))
            for grade, component in graded
        ),
        evidence=Evidence(rows=tuple(f"resource:{e.key}" for e in found.evidence if _of(e) != "holds")),
    )


_AT_THE_TOP = "At the highest throughput, or beyond it where it falls; each of its resources under Evidence."
_SHORT_OF_LOAD = (
    "At the highest throughput that the generators brought about, which was less than ordered: how busy each was "
    "with that, not how it bears more."
)

_ORDER: tuple[Grade, ...] = ("holds", "strained", "saturated")
_GLYPH = {"holds": "○", "strained": "◐", "saturated": "●"}


def _of(resource: ResourceEvidence) -> Grade:
    if resource.full_from is not None:
        return "saturated"
    return "strained" if resource.utilisation >= NEAR else "holds"


def _grade(resources: Sequence[ResourceEvidence]) -> Grade:
    return max((_of(resource) for resource in resources), key=_ORDER.index)


def _title(graded: Sequence[tuple[Grade, str]]) -> str:
    parts = [
        f"{_named([c for g, c in graded if g == grade])} {says[one]}"
        for grade, says in (
            ("saturated", ("is at its end", "are at their end")),
            ("strained", ("is near its end", "are near their end")),
            ("holds", ("has room", "have room")),
        )
        if (count := sum(g == grade for g, _ in graded))
        for one in (int(count > 1),)
    ]
    return ", ".join(parts)


def _named(components: Sequence[str]) -> str:
    if len(components) > MOST_NAMED:
        return f"{len(components)} servers"
    *others, last = [f"`{component}`" for component in components]
    return f"{', '.join(others)} and {last}" if others else last


def _line(component: str, grade: Grade, resources: Sequence[ResourceEvidence], kind: LoadKind) -> str:
    return f"{_GLYPH[grade]} `{component}`: {'; '.join(_resource(e, kind) for e in resources)}"


def _taking(processes: Sequence[tuple[str, float]]) -> str:
    """Which processes take the CPU."""
    if not processes:
        return ""
    told = [f"`{name.replace('`', '')}` {n.figure(cores)}" for name, cores in processes]
    return f". Cores by process: {', '.join(told)}"


def _resource(e: ResourceEvidence, kind: LoadKind) -> str:
    told = f"{'CPU' if e.name == 'cpu' else e.name} {n.percent(e.utilisation)}"
    if e.full_from is not None:
        return f"{told}, full from {n.load(e.full_from, kind)}"
    if e.demand is not None and e.demand.ceiling is not None and e.utilisation >= NEAR:
        return f"{told}, full at {n.rate(e.demand.ceiling.value)}"
    return told
