"""The owner of one generator process: carries its seconds to the database and orders back."""

from __future__ import annotations

import threading
import time
from datetime import timedelta

from django.utils import timezone

from stonekettle.engine import records
from stonekettle.engine.lifecycle import ENDED, RunState
from stonekettle.engine.process import Event, Finished, GeneratorProcess, Lost, Ready, SecondDone
from stonekettle.engine.rollup import pack_histograms
from stonekettle.plan import document
from stonekettle.plan.secrecy import hidden
from stonekettle.server.feeds.models import FeedFile
from stonekettle.server.runs.keeping import DatabaseAway, Watch, patiently
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run

LOOK_S = 0.25
CONDUCTOR_SILENCE = timedelta(seconds=10)
"""Without a sign of life of the conductor for so long, users are let go: no load without an owner."""


class Courier:
    """Runs a generator for its row in the database, until it has finished or is lost."""

    def __init__(self, generator: Generator, index: int, count: int) -> None:
        self.generator = generator
        self._lock = threading.Lock()
        self._news: list[Event] = []
        self._unsaved: list[GeneratorSecond] = []
        self._watch = Watch(LOOK_S)
        self._begun = self._drained = False
        plan = document.with_files(generator.run.plan, FeedFile.text_of)
        self._process = GeneratorProcess(plan, self._hear, share=(index, count), seed=generator.run_id)

    def carry(self) -> None:
        """Until the generator's end; every second that arrived is saved before this returns."""
        end: Event | None = None
        try:
            while end is None or self._unsaved:
                for event in self._take_news():
                    if isinstance(event, Ready):
                        self._set(state=Generator.State.READY, clock_offset_s=event.clock_offset_s)
                    elif isinstance(event, SecondDone):
                        self._unsaved.append(self._row(event))
                    else:
                        end = event
                self._watch.read(self._look_and_save, None)
                time.sleep(LOOK_S)
        except DatabaseAway as error:
            # Nobody can hear us: end the load. What is unsaved is lost with the database.
            end = Lost(f"{str(error).rstrip('.').lower()}, {len(self._unsaved)} seconds are lost with it")
        finally:
            self._process.close()
        if isinstance(end, Finished):
            self._set(state=Generator.State.FINISHED)
        elif isinstance(end, Lost):
            self._set(state=Generator.State.LOST, reason=hidden(end.reason))

    def _hear(self, event: Event) -> None:
        with self._lock:
            self._news.append(event)

    def _take_news(self) -> list[Event]:
        with self._lock:
            news, self._news = self._news, []
        return news

    def _row(self, event: SecondDone) -> GeneratorSecond:
        return GeneratorSecond(
            generator=self.generator,
            second=event.rollup["second"],
            rollup=event.rollup,
            histograms=pack_histograms(event.histograms),
            records=records.to_chunk(records.view(event.records)) if event.records else b"",
        )

    def _look_and_save(self) -> None:
        """Hear orders, give a sign of life, and save what has arrived: in this order, since orders must get
        through where nothing can be written any more."""
        self._hear_orders()
        Generator.objects.filter(pk=self.generator.pk).update(seen_at=timezone.now(), process_id=self._process.pid)
        if self._unsaved:
            GeneratorSecond.objects.bulk_create(self._unsaved, ignore_conflicts=True)
            self._unsaved = []

    def _hear_orders(self) -> None:
        now = timezone.now()
        run = Run.objects.only("begun_at", "drain_ordered", "state", "conductor_seen_at").get(pk=self.generator.run_id)
        if run.begun_at is not None and not self._begun:
            self._begun = True
            self._process.begin(run.begun_at)
        steady = self._watch.steady_for_s > CONDUCTOR_SILENCE.total_seconds()
        silent = run.conductor_seen_at is not None and steady and now - run.conductor_seen_at > CONDUCTOR_SILENCE
        over = run.run_state in ENDED or run.run_state == RunState.ANALYSING
        if (run.drain_ordered or over or silent) and not self._drained:
            self._drained = True
            self._process.drain()

    def _set(self, **fields: object) -> None:
        rows = Generator.objects.filter(pk=self.generator.pk)
        patiently(lambda: rows.update(seen_at=timezone.now(), **fields))
