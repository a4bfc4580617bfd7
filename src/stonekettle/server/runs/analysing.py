"""From stored data to stored findings; can be done again at any time."""

from __future__ import annotations

from stonekettle.core import analysis
from stonekettle.plan import document
from stonekettle.report import result
from stonekettle.server.runs import data
from stonekettle.server.runs.models import Run


def analyse(run: Run, *, state: str, cause: str) -> None:
    """Compute and save the findings of a run that will end as ``state``."""
    plan, loaded = run.plan, data.load(run)
    measured = loaded.run
    goals = document.core_objectives(plan)
    found = analysis.analyse(measured, run.ordered, goals, plan.error_limit, data.requests(run))
    built = result.build(
        plan, measured, found, loaded.readings, state=state, cause=cause, trial_requests=run.trial_requests
    )
    run.result = built.model_dump(mode="json")
    run.verdict = built.verdict
    run.analysis_version = found.version
    run.save(update_fields=["result", "verdict", "analysis_version"])
