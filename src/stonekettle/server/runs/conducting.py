"""The conductor's journal and fleet, kept in the database."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import asdict
from datetime import timedelta

from django.conf import settings
from django.utils import timezone

from stonekettle.engine.conductor import FleetStatus
from stonekettle.engine.lifecycle import RunState
from stonekettle.meters.samples import Batch
from stonekettle.meters.scraper import EndpointReport
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.secrecy import hidden
from stonekettle.server.runs import data, rules
from stonekettle.server.runs.keeping import AWAY, Watch, patiently
from stonekettle.server.runs.models import Generator, Run

LOOK_S = 0.4
GENERATOR_SILENCE_S = 8.0


class DatabaseJournal:
    """Keeps a run in the database. Samples wait in memory while it is away."""

    def __init__(self, run_id: int) -> None:
        self.run_id = run_id
        self._watch = Watch(LOOK_S)
        self._stopper: str | None = None
        self._unsaved: list[Batch] = []

    def move(self, state: RunState, cause: str) -> None:
        patiently(lambda: rules.move(self.run_id, state, cause))

    def prepared(self, plan: Plan, trial_requests: int) -> None:
        self._update(plan_document=document.to_document(plan), trial_requests=trial_requests)

    def begun(self, at: float) -> None:
        self._update(begun_at=at)

    def samples(self, batch: Batch) -> None:
        self._unsaved.append(batch)
        self._save()

    def metered(self, reports: Sequence[EndpointReport]) -> None:
        self._update(meter_reports=[{**asdict(report), "last_fault": hidden(report.last_fault)} for report in reports])

    def stop_wanted(self) -> str | None:
        if self._watch.due():
            self._stopper = self._watch.read(self._look, self._stopper)
            self._save()
        return self._stopper

    def flush(self) -> None:
        """Save what is left, waiting for the database if need be."""
        if self._unsaved:
            patiently(self._write)

    def _look(self) -> str | None:
        Run.objects.filter(pk=self.run_id).update(conductor_seen_at=timezone.now())
        return Run.objects.values_list("stop_requested_by", flat=True).get(pk=self.run_id) or None

    def _save(self) -> None:
        if not self._unsaved:
            return
        try:
            self._write()
        except AWAY:
            pass  # kept in memory until the next look

    def _write(self) -> None:
        data.store(self.run_id, self._unsaved)
        self._unsaved = []

    def _update(self, **fields: object) -> None:
        patiently(lambda: Run.objects.filter(pk=self.run_id).update(**fields))


class DatabaseFleet:
    """Generators as tasks of the workers; orders and signs of life go through their rows."""

    def __init__(self, run_id: int, count: int = 1) -> None:
        self.run_id, self.count = run_id, count
        self._watch = Watch(LOOK_S)
        self._status = FleetStatus(ready=False, finished=False)

    def prepare(self, plan: Plan) -> None:
        from stonekettle.server.runs import tasks

        region = settings.GENERATOR_REGION
        for number in range(self.count):
            generator = Generator.objects.create(run_id=self.run_id, name=f"{region}-{number + 1}", region=region)
            tasks.generate.configure(queue=f"region-{region}").defer(
                generator_id=generator.pk, index=number, count=self.count
            )

    def begin(self, at: float) -> None:
        """Generators read the beginning from the run itself."""

    def drain(self) -> None:
        patiently(lambda: Run.objects.filter(pk=self.run_id).update(drain_ordered=True))

    def status(self) -> FleetStatus:
        if self._watch.due():
            self._status = self._watch.read(self._look, self._status)
        return self._status

    def close(self) -> None:
        self.drain()

    def _look(self) -> FleetStatus:
        generators = list(Generator.objects.filter(run_id=self.run_id))
        states = {generator.state for generator in generators}
        lost = next((g for g in generators if g.state == Generator.State.LOST), None)
        if lost is not None:
            return FleetStatus(False, False, f"{lost.name}: {lost.reason}")
        # After an outage of the database everybody's sign of life is old: give them time to catch up.
        patience = timedelta(seconds=GENERATOR_SILENCE_S)
        readable_for = time.monotonic() - self._watch.readable_since
        for generator in generators:
            silent = timezone.now() - generator.seen_at
            waiting = generator.state in (Generator.State.STARTING, Generator.State.FINISHED)
            if not waiting and silent > patience and readable_for > GENERATOR_SILENCE_S:
                return FleetStatus(False, False, f"{generator.name} fell silent")
        return FleetStatus(
            ready=bool(generators) and Generator.State.STARTING not in states,
            finished=states == {Generator.State.FINISHED},
        )
