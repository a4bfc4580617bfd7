"""Do the data obey Little's law, and could everybody go on all the time?"""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Note


def note(analysis: Analysis) -> Note | None:
    if not analysis.little:
        return None
    broken = [check for check in analysis.little if check.broken]
    if not broken:
        return Note(
            kind="laws",
            grade="holds",
            title="The laws hold",
            text=f"Little's law agrees with the data at all {len(analysis.little)} levels: "
            "users, throughput and response time tell one story.",
            evidence=Evidence(rows=("throughput", "response")),
        )
    details = tuple(
        f"At {_at(analysis, check.level)}: {n.percent(abs(check.gap))} of the users are "
        f"{'unaccounted for' if check.gap > 0 else 'counted twice'}."
        for check in broken
    )
    return Note(
        kind="laws",
        grade="strained",
        title=f"The laws are broken at {len(broken)} of {len(analysis.little)} levels",
        text="Users, throughput and response time do not fit together there; read those levels with care.",
        details=details,
        evidence=Evidence(rows=("throughput", "response"), at=_load(analysis, broken[0].level)),
    )


def pauses(analysis: Analysis) -> Note | None:
    """That the system answered nobody for a while."""
    paused = [check for check in analysis.little if check.pause_s > 0]
    if not paused:
        return None
    longest = max(paused, key=lambda check: check.pause_s)
    return Note(
        kind="pauses",
        grade="strained",
        title=f"Nobody could go on for {n.seconds(longest.pause_s)}",
        text=f"At {_at(analysis, longest.level)} no step started for so long, though the generators ran: everybody "
        "waited for the system.",
        details=tuple(f"At {_at(analysis, check.level)} for {n.seconds(check.pause_s)}." for check in paused),
        evidence=Evidence(rows=("throughput", "response"), at=_load(analysis, longest.level)),
    )


def _load(analysis: Analysis, level: int) -> float:
    return analysis.levels[level - 1].load.delivered


def _at(analysis: Analysis, level: int) -> str:
    return n.load(_load(analysis, level), analysis.load_kind)
