"""From stored data to stored findings; can be done again at any time."""

from __future__ import annotations

from stonekettle.core import analysis
from stonekettle.core import facts as core_facts
from stonekettle.plan import document
from stonekettle.report import result
from stonekettle.server.runs import baselines, bundling, data, facts, kept, merging, metering, traces
from stonekettle.server.runs.models import Run


def analyse(run: Run, *, state: str, cause: str) -> None:
    """Compute and save the findings of a run that will end as ``state``."""
    merging.merge(run.pk)
    bundling.compact(run.pk)
    kept.settle(run)
    traces.settle(run)
    plan, loaded = run.plan, data.load(run)
    measured = loaded.run
    metering.complete(run, loaded)
    goals = document.core_objectives(plan)
    promised = document.throughput_goals(plan)
    found = analysis.analyse(measured, run.ordered, goals, plan.error_limit, data.requests(run), promised=promised)
    built = result.build(
        plan, measured, found, loaded.readings, state=state, cause=cause, trial_requests=run.trial_requests
    )
    # Nothing was measured in a simulated run, soundly or otherwise.
    notes = [note for note in built.notes if not (run.simulated and note.kind == "measuring")]
    built = built.model_copy(update={"simulated": run.simulated, "notes": notes})
    run.result = built.model_dump(mode="json")
    run.verdict = built.verdict
    run.analysis_version = found.version
    run.save(update_fields=["result", "verdict", "analysis_version"])
    facts.keep(run, core_facts.gather(measured, found, plan.system.cost_per_hour))
    baselines.judge(run)
