"""Which turns of a series count."""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.report import findings as documents
from stonekettle.server.runs.models import Run
from stonekettle.server.series.models import Turn


def counting(turn: Turn, *, trusted: bool = True) -> tuple[Run, Analysis] | str:
    """A turn's run with what it found, or why it does not count. With its levels where measuring cost one of its claims
    and it need not be ``trusted``."""
    run = turn.run
    if run is None or run.deleted_at is not None:
        return f"the run of turn {turn.number} was deleted"
    if run.state != "finished" or run.result is None:
        return f"run {run.pk} ended as {run.state}"
    if run.left_out:
        return f"run {run.pk} is left out: {run.left_out}"
    analysis = documents.claims(run.result["findings"])
    if analysis.trustworthy:
        return run, analysis
    if trusted:
        return f"run {run.pk} is not trustworthy by measuring"
    return run, documents.read(run.result["findings"])
