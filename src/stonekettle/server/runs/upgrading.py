"""Runs of the version before are brought to how runs are kept now, before anything is served."""

from __future__ import annotations

from collections.abc import Callable

from stonekettle.engine.lifecycle import ENDED
from stonekettle.report import older
from stonekettle.report.result import FORMAT_VERSION
from stonekettle.server.problems import fault
from stonekettle.server.runs import bundling, data, merging, metering
from stonekettle.server.runs.models import GeneratorSecond, Run


def bring_up_to_date(say: Callable[[str], object]) -> int:
    """Make the seconds of ended runs that have none yet; how many runs there were. What was found in them stays, in
    today's format."""
    _bring_results()
    told = GeneratorSecond.objects.filter(merged=False).values("generator__run_id")
    runs = Run.objects.filter(pk__in=told, state__in=[state.value for state in ENDED]).select_related("system")
    for number, run in enumerate(runs, start=1):
        say(f"Bringing the measurements of run {run.pk} up to date, {number} of {len(runs)} …")
        try:
            merging.merge(run.pk)
            bundling.compact(run.pk)
            metering.complete(run, data.load(run))
        except Exception as error:  # the others shall be there all the same
            say(fault(f"run {run.pk}", error)["detail"])
    return len(runs)


def _bring_results() -> None:
    for run in Run.objects.filter(result__format__lt=FORMAT_VERSION).only("result"):
        run.result = older.brought_up(run.result)
        run.save(update_fields=["result"])
