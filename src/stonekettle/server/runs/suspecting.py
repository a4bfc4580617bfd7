"""What is known of a run beside its findings that speaks for or against what may have limited it."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from stonekettle.core.analysis import Analysis
from stonekettle.core.levels import Level
from stonekettle.core.suspects import Seen
from stonekettle.report import suspects
from stonekettle.report.suspects import Suspects
from stonekettle.server.runs import data, timings
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run
from stonekettle.server.runs.search import Chosen, Filter


def of(run: Run) -> Suspects | None:
    """The suspects of a run; None where it has no findings that today's analysis made."""
    analysis = findings_of(run)
    return suspects.told(analysis, _seen(run, analysis)) if analysis is not None else None


def _seen(run: Run, analysis: Analysis) -> Seen:
    unmetered = [component.name for component in run.plan.system.components if not component.meters]
    top = max(analysis.levels, key=lambda level: level.load.delivered, default=None)
    if top is None or run.seeded:
        return Seen(unmetered=unmetered)
    seconds = data.seconds_stored(run)
    return Seen(_shares(run, top, seconds), _on_the_wire(run, top, seconds), unmetered)


def _shares(run: Run, top: Level, seconds: int) -> Mapping[str, float]:
    """The share of a response at a level that its servers say was spent in each."""
    steps = {one.step: one for one in top.steps if one.completions > one.errors}
    whole_s = sum(one.response_s * (one.completions - one.errors) for one in steps.values())
    spent: dict[str, float] = {}
    for (_, name, step), (count, total_s) in timings.by_level(run, top.window(seconds).used.astype(np.int64)).items():
        if step in steps and count:
            good = steps[step].completions - steps[step].errors
            spent[name] = spent.get(name, 0.0) + total_s / count * good
    return {name: min(1.0, total_s / whole_s) for name, total_s in spent.items()} if whole_s > 0 else {}


def _on_the_wire(run: Run, top: Level, seconds: int) -> float | None:
    """The share of main requests' time at a level that is connecting, sending and receiving."""
    requests = Chosen(run, Filter(seconds=top.window(seconds).used, failed=False, parts=(0,)))
    whole_us = int(requests.total_us.sum())
    if not whole_us:
        return None
    receiving_us = whole_us - int(requests.column("first_byte_us").sum())
    return float((int(requests.column("sent_us").sum()) + receiving_us) / whole_us)
