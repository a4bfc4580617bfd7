"""From stored data to stored findings; can be done again at any time."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from stonekettle.core import analysis
from stonekettle.core import facts as core_facts
from stonekettle.core.run_data import RunData
from stonekettle.core.types import BoolArray
from stonekettle.plan import document
from stonekettle.report import result
from stonekettle.server.runs import baselines, bundling, data, facts, kept, merging, metering, traces
from stonekettle.server.runs.data import Measured
from stonekettle.server.runs.models import Run, SetAside


def analyse(run: Run, *, state: str, cause: str) -> None:
    """Compute and save the findings of a run that will end as ``state``."""
    merging.merge(run.pk)
    bundling.compact(run.pk)
    kept.settle(run)
    traces.settle(run)
    loaded = data.load(run)
    metering.complete(run, loaded)
    measured = loaded.run
    left_out = list(run.set_aside.all())
    found, built = _findings(run, loaded, measured, state, cause)
    run.whole_result = None
    if left_out:
        run.whole_result = built.model_dump(mode="json")
        measured = replace(measured, set_aside=seconds_of(left_out, measured.seconds))
        found, built = _findings(run, loaded, measured, state, cause)
        built.set_aside = [result.SetAside(from_s=one.from_s, until_s=one.until_s, why=one.why) for one in left_out]
    run.result = built.model_dump(mode="json")
    run.verdict = built.verdict
    run.analysis_version = found.version
    run.save(update_fields=["result", "whole_result", "verdict", "analysis_version"])
    facts.keep(run, core_facts.gather(measured, found, run.plan.system.cost_per_hour))
    baselines.judge(run)


def seconds_of(left_out: Iterable[SetAside], seconds: int) -> BoolArray:
    """Which of so many seconds are left out, shape (seconds,)."""
    found = np.zeros(seconds, dtype=np.bool_)
    for one in left_out:
        found[one.from_s : one.until_s] = True
    return found


def _findings(
    run: Run, loaded: Measured, measured: RunData, state: str, cause: str
) -> tuple[analysis.Analysis, result.Result]:
    plan = run.plan
    goals, promised = document.core_objectives(plan), document.throughput_goals(plan)
    found = analysis.analyse(measured, run.ordered, goals, plan.error_limit, data.requests(run), promised=promised)
    built = result.build(
        plan, measured, found, loaded.readings, state=state, cause=cause, trial_requests=run.trial_requests
    )
    # Nothing was measured in a simulated run, soundly or otherwise.
    notes = [note for note in built.notes if not (run.simulated and note.kind == "measuring")]
    return found, built.model_copy(update={"simulated": run.simulated, "notes": notes})
