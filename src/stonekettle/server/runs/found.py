"""The findings of a run as the core made them."""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.report import findings
from stonekettle.server.runs.models import Run


def findings_of(run: Run) -> Analysis | None:
    """None before there are any, and where an analysis of long ago made them."""
    told = (run.result or {}).get("findings")
    try:
        return findings.read(told) if told else None
    except ValueError:
        return None
