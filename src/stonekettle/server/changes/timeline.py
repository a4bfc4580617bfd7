"""Makes the changes that stand on an experiment's timeline, while its run is led."""

from __future__ import annotations

import time

from stonekettle.engine.lifecycle import RunState
from stonekettle.plan.calls import Due
from stonekettle.plan.problems import PlanError
from stonekettle.server.access.roles import Actor
from stonekettle.server.changes import rules
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.beside import Beside
from stonekettle.server.runs.models import Run, RunMarker

BY = "the timeline"


class Timeline(Beside):
    every_s = 0.25
    about = "the timeline"

    def __init__(self, run_id: int) -> None:
        super().__init__(run_id)
        self._due: list[Due] | None = None

    def look(self) -> None:
        """Ask for what is due. What cannot be asked for is said in the run, which goes on."""
        if self._due is None:
            plan = Run.objects.get(pk=self.run_id).plan
            self._due = sorted(plan.timeline, key=lambda due: due.at)
        if not self._due:
            self._over.set()
            return
        run = Run.objects.get(pk=self.run_id)
        if run.run_state != RunState.RUNNING or run.begun_at is None:
            return
        while self._due and (now := time.time() - run.begun_at) >= self._due[0].at:
            due = self._due.pop(0)
            try:
                rules.ask(Actor.itself(BY), run, due.change, due.values)
            except (Conflict, PlanError) as error:
                text = f"{due.change} was not asked for: {error}"
                RunMarker.objects.create(run=run, at_s=round(now, 3), text=text, who=BY)
                Run.objects.goes_on(run.pk)
