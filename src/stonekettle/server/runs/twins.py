"""Which twin a plan is rehearsed against: the practice system's, or one of what a run measured of its system."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from stonekettle.engine.script import cells_of
from stonekettle.plan.models import Plan
from stonekettle.plan.parts import PRACTICE
from stonekettle.practice import config, measured
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.twin import TwinJourney, journeys_of
from stonekettle.report import findings
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.models import Run
from stonekettle.server.runs.rules import target_of

LOOK_BACK = 20
"""So many runs are asked for demands, the newest first."""


@dataclass(frozen=True)
class TwinSystem:
    """A twin for a plan; ``words`` say what it is a twin of, ``prefix`` begins the names of its metrics. ``ends`` are
    the same with all demands at the low and at the high end; ``run`` measured them, up to the load ``measured_to`` and
    ``measured_rate`` steps per second."""

    config: PracticeConfig
    journeys: Sequence[TwinJourney]
    words: str
    prefix: str
    ends: tuple[PracticeConfig, PracticeConfig]
    run: int | None = None
    measured_to: float | None = None
    measured_rate: float | None = None


def twin_for(plan: Plan, experiment: Experiment) -> TwinSystem:
    """The twin of a plan's system. Raises :class:`Conflict` where nothing is known that it could be made of."""
    if target_of(plan) == PRACTICE:
        known = {route.name for route in config.quillport().routes}
        journeys = journeys_of(plan)
        if all(step.route in known for journey in journeys for step in journey.steps):
            own = config.quillport()
            return TwinSystem(own, journeys, "a simulation of the practice system", "quillport", (own, own))
    found = _measured(plan, experiment)
    if found is None:
        raise Conflict(
            f"Nothing is known yet of how much {plan.system.name} does for a step, so it cannot be rehearsed. Run an "
            "experiment of it with meters at a few light levels first; its service demands make the twin."
        )
    run, system = found
    made, journeys = measured.twin_of(plan, system)
    low, high = (measured.twin_of(plan, system.with_demands(end))[0] for end in (-1, 1))
    words = f"a twin made of the service demands that run {run.pk} measured"
    return TwinSystem(made, journeys, words, "rehearsed", (low, high), run.pk, system.measured_to, system.measured_rate)


def _measured(plan: Plan, experiment: Experiment) -> tuple[Run, measured.MeasuredSystem] | None:
    """The newest run of the same place that knows demands, with what it knows."""
    runs = Run.objects.there().filter(target=target_of(plan), simulated=False, result__isnull=False).order_by("-pk")
    components = {component.name for component in plan.system.components}
    for run in runs[:LOOK_BACK]:
        told = (run.result or {}).get("findings")
        system = measured.system_of(findings.read(told), cells_of(run.plan)) if told else None
        if system is not None and {resource.component for resource in system.resources} <= components:
            return run, system
    return None
