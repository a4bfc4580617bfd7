"""The conductor's journal and fleet, kept in the database."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Sequence
from dataclasses import asdict
from datetime import timedelta

from django.conf import settings
from django.db import connection
from django.utils import timezone

from stonekettle.engine.conductor import FleetStatus
from stonekettle.engine.lifecycle import RunState
from stonekettle.meters.samples import Batch
from stonekettle.meters.scraper import EndpointReport
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.secrecy import hidden
from stonekettle.server.runs import data, rules
from stonekettle.server.runs.keeping import DatabaseAway, Watch, patiently
from stonekettle.server.runs.models import Generator, Run

LOOK_S = 0.4
GENERATOR_SILENCE_S = 8.0


class Line:
    """A conductor's line to the database, on a thread of its own: it gives the sign of life, hears who wants
    the run stopped and how its generators are, and saves samples. Whatever the conductor does, and however
    slow the database is, neither holds up the other. Use as a context."""

    def __init__(self, run_id: int) -> None:
        self.run_id = run_id
        self.stopper: str | None = None
        self.generators: list[Generator] = []
        self.looked_at = timezone.now()
        self._watch = Watch(LOOK_S)
        self._unsaved: deque[Batch] = deque()
        self._saving = threading.Lock()
        self._fault: DatabaseAway | None = None
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, name="line", daemon=True)

    def __enter__(self) -> Line:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join(LOOK_S + 1)

    @property
    def steady_for_s(self) -> float:
        return self._watch.steady_for_s

    def check(self) -> None:
        """Raises :class:`DatabaseAway` once it has been for too long."""
        if self._fault is not None:
            raise self._fault

    def keep(self, batch: Batch) -> None:
        """Save this at the next look."""
        self._unsaved.append(batch)

    def flush(self) -> None:
        """Save what is left, waiting for the database if need be."""
        patiently(self._save)

    def look(self) -> None:
        """Give the sign of life, hear what is new, save what there is."""
        Run.objects.filter(pk=self.run_id).update(conductor_seen_at=timezone.now())
        self.stopper = Run.objects.values_list("stop_requested_by", flat=True).get(pk=self.run_id) or None
        self.generators = list(Generator.objects.filter(run_id=self.run_id))
        self.looked_at = timezone.now()
        self._save()

    def _run(self) -> None:
        try:
            while not self._over.wait(LOOK_S):
                self._watch.read(self.look, None)
        except DatabaseAway as error:
            self._fault = error
        finally:
            connection.close()

    def _save(self) -> None:
        with self._saving:
            batches = list(self._unsaved)
            if batches:
                data.store(self.run_id, batches)
            for _ in batches:
                self._unsaved.popleft()


class DatabaseJournal:
    """Keeps a run in the database. Samples wait in memory while it is away."""

    def __init__(self, line: Line) -> None:
        self._line, self.run_id = line, line.run_id

    def move(self, state: RunState, cause: str) -> None:
        patiently(lambda: rules.move(self.run_id, state, cause))

    def prepared(self, plan: Plan, trial_requests: int) -> None:
        self._update(plan_document=document.to_document(plan), trial_requests=trial_requests)

    def begun(self, at: float) -> None:
        self._update(begun_at=at)

    def samples(self, batch: Batch) -> None:
        self._line.keep(batch)

    def metered(self, reports: Sequence[EndpointReport]) -> None:
        self._update(meter_reports=[{**asdict(report), "last_fault": hidden(report.last_fault)} for report in reports])

    def stop_wanted(self) -> str | None:
        self._line.check()
        return self._line.stopper

    def _update(self, **fields: object) -> None:
        patiently(lambda: Run.objects.filter(pk=self.run_id).update(**fields))


class DatabaseFleet:
    """Generators as tasks of the workers; orders and signs of life go through their rows."""

    def __init__(self, line: Line, count: int = 1) -> None:
        self._line, self.run_id, self.count = line, line.run_id, count

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
        """How the generators are. Silence is judged only while the database has been steady for as long:
        after an outage, or while nothing can be written, everybody's sign of life is old."""
        generators = self._line.generators
        states = {generator.state for generator in generators}
        lost = next((g for g in generators if g.state == Generator.State.LOST), None)
        if lost is not None:
            return FleetStatus(False, False, f"{lost.name}: {lost.reason}")
        patience = timedelta(seconds=GENERATOR_SILENCE_S)
        for generator in generators:
            silent = self._line.looked_at - generator.seen_at
            waiting = generator.state in (Generator.State.STARTING, Generator.State.FINISHED)
            if not waiting and silent > patience and self._line.steady_for_s > GENERATOR_SILENCE_S:
                return FleetStatus(False, False, f"{generator.name} fell silent")
        return FleetStatus(
            ready=bool(generators) and Generator.State.STARTING not in states,
            finished=states == {Generator.State.FINISHED},
        )

    def close(self) -> None:
        self.drain()
