"""A run in words: its verdict, and all findings in the order in which they matter."""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Declined, Reason
from stonekettle.plan.models import Plan
from stonekettle.report.notes import (
    arriving,
    breaking,
    changes,
    comfort,
    laws,
    limiting,
    measuring,
    saturation,
    servers,
    throughput,
)
from stonekettle.report.notes.note import Note
from stonekettle.report.processes import Processes


def verdict(analysis: Analysis, plan: Plan) -> str:
    """The answer in one or two lines: what is claimed, then what measuring cost."""
    parts = []
    if isinstance(analysis.comfort, ComfortLimit):
        parts.append(comfort.title(analysis.comfort, analysis.load_kind) + ".")
    parts += [f"{throughput.title(one, analysis.load_kind, plan)}." for one in throughput.decisive(analysis.throughput)]
    if isinstance(analysis.saturation, Saturation):
        parts.append(saturation.title(analysis.saturation, analysis.load_kind) + ".")
    if isinstance(analysis.limiting, LimitingResource) and analysis.limiting.cause != "none":
        parts.append(limiting.title(analysis.limiting) + ".")
    if parts:
        parts += [f"{changes.title(change)}." for change in analysis.changes]
    withheld = analysis.measuring.withheld
    if withheld and parts:
        parts.append(f"Not trustworthy: the {' and the '.join(withheld)}.")
    elif withheld:
        parts.append(f"Not trustworthy: {_withheld_because(analysis)}")
    return " ".join(parts) or "Inconclusive: too few levels were measured to answer."


def _withheld_because(analysis: Analysis) -> str:
    reasons = {d.reason for d in (analysis.comfort, analysis.saturation) if isinstance(d, Declined)}
    if Reason.LAWS in reasons:
        return "users, throughput and response time do not fit together. Nothing is claimed about the system."
    return f"{measuring.did(analysis.measuring)}. Nothing is claimed about the system."


def notes(analysis: Analysis, plan: Plan, processes: Processes | None = None) -> tuple[Note, ...]:
    """All findings as margin notes, the most important first; ``processes`` take the processors of servers."""
    found = [
        comfort.note(analysis, plan),
        throughput.note(analysis, plan),
        saturation.note(analysis),
        limiting.note(analysis),
        servers.note(analysis, processes),
        breaking.note(analysis),
        *changes.notes(analysis),
        saturation.disagreement(analysis),
        laws.note(analysis),
        laws.pauses(analysis),
        arriving.note(analysis),
        measuring.note(analysis),
    ]
    return tuple(note for note in found if note is not None)
