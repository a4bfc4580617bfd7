"""The owner of one generator process: carries its seconds to the database, and orders and leases back.

It owns the load while its own loop turns, its spool takes what arrives, and the run has a conductor. A database that
is away for up to a minute changes nothing: seconds wait in the spool. Beyond that, or without a conductor, the users
are let go.
"""

from __future__ import annotations

import threading
import time
from collections import deque
from typing import Any

from django.conf import settings
from django.db import connection
from django.db.models.functions import Now

from stonekettle.engine import orderbook, records
from stonekettle.engine.allowance import LOOPBACK, Allowance, Ceilings
from stonekettle.engine.errors import EngineError
from stonekettle.engine.kept import Whole
from stonekettle.engine.leases import Lease
from stonekettle.engine.lifecycle import ENDED, RunState
from stonekettle.engine.owner import Acknowledged, Event, Finished, GeneratorProcess, KeptWhole, Lost, Ready, SecondDone
from stonekettle.engine.rollup import pack_histograms
from stonekettle.plan import document
from stonekettle.plan.secrecy import hidden
from stonekettle.server.access import halting
from stonekettle.server.feeds.models import FeedFile
from stonekettle.server.problems import fault
from stonekettle.server.runs import kept
from stonekettle.server.runs.keeping import DatabaseAway, Watch, clock_offset_s, patiently, sign_in_memory, since
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run, RunOrder
from stonekettle.server.runs.spool import Spool, SpoolFull
from stonekettle.server.targets import shares as targets

LOOK_S = 0.2
TURN_S = 0.1
CONDUCTOR_SILENCE_S = 10.0
"""Without a sign of life of the conductor for so long, users are let go: no load without an owner."""
GENERATOR_STALL_S = 4.0
OWN_STALL_S = 4.0
"""An owner whose own loop stood still for so long gives no word to go on."""
HALT_LIMIT_S = 0.8
"""A generator that makes load for so long after it was told of a halt is killed."""
AT_ONCE = 20
MOST_WHOLE = 2_000
"""So many requests kept whole wait for the database; seconds with their records come before them."""


class Courier:
    """Runs a generator for its row in the database, until it has finished or is lost."""

    def __init__(self, generator: Generator) -> None:
        self.generator = generator
        self.saved_late = False
        """Whether seconds were saved after the run had ended."""
        self._news: deque[Event] = deque()
        self._spool = Spool()
        self._whole: deque[Whole] = deque()
        self._saving = threading.Lock()
        self._watch = Watch(LOOK_S)
        self._over = threading.Event()
        self._told, self._due = threading.Event(), threading.Event()
        self._fault: Exception | None = None
        self._turned_at = time.monotonic()
        self._silent_s = 0.0
        self._offset_s = patiently(clock_offset_s)
        self._ready = self._begun = self._let_go = self._run_ended = self._stalled = self._ended = False
        self._zero = 0.0
        self._halted_at: float | None = None
        self._heard = self._acknowledged = 0
        self._epoch = 0
        self._fields: dict[str, Any] = {"label": settings.GENERATOR_LABEL, "clock_offset_s": -self._offset_s}
        plan = document.with_files(generator.run.plan, FeedFile.text_of)
        self._allowance = LOOPBACK if generator.run.allowance is None else Allowance.of(generator.run.allowance)
        self._shares: list[Ceilings] | None = None
        self._process = GeneratorProcess(
            plan, self._hear_news, slot=generator.slot, seed=generator.run_id, allowance=self._allowance
        )
        self._process.is_owned = self._is_owned

    def carry(self) -> None:
        """Until the generator's end; every second that arrived is saved before this returns."""
        line = threading.Thread(target=self._run_line, name="courier", daemon=True)
        line.start()
        end: Event | None = None
        try:
            while end is None or (len(self._spool) and self._fault is None):
                self._turn()
                while self._news:
                    end = self._take(self._news.popleft()) or end
                if self._fault is not None and not self._let_go:
                    # Nobody can hear us, or nothing can be kept any more: end the load.
                    self._order_to_go()
                self._told.wait(TURN_S)
                self._told.clear()
        finally:
            self._process.close()
            self._over.set()
            self._due.set()
            line.join(LOOK_S + 30)
        if self._fault is not None:
            left = f", {len(self._spool)} seconds are lost with it" if len(self._spool) else ""
            end = Lost(f"{str(self._fault).rstrip('.').lower()}{left}")
        self._spool.close()
        self._end(end)

    def _hear_news(self, event: Event) -> None:
        self._news.append(event)
        self._told.set()

    def _turn(self) -> None:
        """Once more around. A generator that has begun tells something each second: one that does not for long, though
        its owner runs, stands still, and others shall take its place."""
        now = time.monotonic()
        due = self._ready and self._begun and self._zero < time.time()
        self._silent_s = self._silent_s + min(now - self._turned_at, 2 * TURN_S) if due else 0.0
        self._turned_at = now
        if self._halted_at is not None and now - self._halted_at > HALT_LIMIT_S and not self._ended:
            self._process.kill()
        if self._silent_s > GENERATOR_STALL_S and not (self._let_go or self._ended):
            self._stalled = True

    def _take(self, event: Event) -> Event | None:
        """Take in what the generator told; its end, if that is what it was."""
        self._silent_s = 0.0
        if isinstance(event, Ready):
            self._fields["state"] = Generator.State.READY
            self._ready = True
        elif isinstance(event, KeptWhole):
            if len(self._whole) + len(event.requests) <= MOST_WHOLE:
                self._whole.extend(event.requests)
        elif isinstance(event, Acknowledged):
            self._acknowledged = event.number
        elif isinstance(event, SecondDone):
            packed = records.to_chunk(records.view(event.records)) if event.records else b""
            try:
                with self._saving:
                    self._spool.put(event.rollup, [pack_histograms(event.histograms), packed])
                self._due.set()
            except SpoolFull as error:
                self._fault = self._fault or error
        else:
            self._ended = True
            return event
        return None

    def _is_owned(self) -> bool:
        return self._fault is None and time.monotonic() - self._turned_at < OWN_STALL_S

    def _run_line(self) -> None:
        """The way to the database, on a thread of its own: nothing there holds up the loop above."""
        try:
            while self._waits_for_news():
                self._watch.read(self.look, None)
        except DatabaseAway as error:
            self._fault = error
        except Exception as error:
            self._fault = EngineError(fault(f"generator {self.generator.pk}", error)["detail"])
        finally:
            connection.close()

    def _waits_for_news(self) -> bool:
        """Until a second was told, which goes on its way at once, or it is time to look; False in the end."""
        self._due.wait(LOOK_S)
        self._due.clear()
        return not self._over.is_set()

    def look(self) -> None:
        """Hear what is new, give a sign of life, and save what has arrived: in this order, since orders must get
        through where nothing can be written any more."""
        sign_in_memory(self.generator.pk)
        self._hear()
        fields, acknowledged = dict(self._fields), self._acknowledged
        mine = Generator.objects.filter(pk=self.generator.pk)
        if self._stalled:
            reason = f"it stood still for {GENERATOR_STALL_S:.0f} s"
            mine.filter(state=Generator.State.READY).update(state=Generator.State.LOST, reason=reason)
        mine.exclude(state=Generator.State.LOST).update(
            seen_at=Now(), process_id=self._process.pid, acknowledged=acknowledged, **fields
        )
        for name in fields:
            if self._fields.get(name) == fields[name]:
                del self._fields[name]
        whole = [self._whole.popleft() for _ in range(len(self._whole))]
        if whole:
            kept.keep(self.generator.run_id, whole)
        with self._saving:
            waiting = self._spool.oldest(AT_ONCE)
        if waiting:
            GeneratorSecond.objects.bulk_create([self._row(*item) for item in waiting], ignore_conflicts=True)
            self.saved_late = self.saved_late or self._run_ended
            with self._saving:
                self._spool.drop(len(waiting))

    def _row(self, rollup: dict[str, Any], blobs: list[bytes]) -> GeneratorSecond:
        histograms, packed = blobs
        return GeneratorSecond(
            generator=self.generator, second=rollup["second"], rollup=rollup, histograms=histograms, records=packed
        )

    def _hear(self) -> None:
        """Orders, the lease, the beginning, and whether the run still wants this generator."""
        run = (
            Run.objects.only("begun_at", "state", "conductor_seen_at")
            .annotate(silent=since("conductor_seen_at"))
            .get(pk=self.generator.run_id)
        )
        mine = Generator.objects.only("state", "lease").get(pk=self.generator.pk)
        if any(permit.ceilings.any for permit in self._allowance.permits):
            shares = targets.of(self.generator, self._allowance)
            if shares != self._shares:
                self._process.share(shares)
                self._shares = shares
        told = RunOrder.objects.filter(run_id=run.pk, number__gt=self._heard).values_list("number", "order")
        if mine.lease is not None and mine.lease["epoch"] > self._epoch:
            self._epoch = mine.lease["epoch"]
            self._process.lease(Lease.of(mine.lease))
        for number, order in told:
            self._heard = number
            self._process.give(orderbook.from_plain(order))
        if run.begun_at is not None and not self._begun:
            self._begun = True
            self._zero = run.begun_at - self._offset_s
            self._process.begin(self._zero)
        steady = self._watch.steady_for_s > CONDUCTOR_SILENCE_S
        silent = run.silent  # type: ignore[attr-defined]  # annotated above
        abandoned = steady and silent is not None and silent.total_seconds() > CONDUCTOR_SILENCE_S
        self._run_ended = run.run_state in ENDED
        if self._halted_at is None and halting.in_force() is not None:
            self._let_go = True
            self._process.halt()
            self._halted_at = time.monotonic()
        over = self._run_ended or run.run_state == RunState.ANALYSING
        if (over or abandoned or mine.state == Generator.State.LOST) and not self._let_go:
            self._order_to_go()

    def _order_to_go(self) -> None:
        self._let_go = True
        self._process.let_go()

    def _end(self, end: Event | None) -> None:
        """What became of it; one that was given up as lost stays so."""
        fields: dict[str, Any] = {"state": Generator.State.FINISHED}
        if isinstance(end, Lost):
            fields = {"state": Generator.State.LOST, "reason": hidden(end.reason)}
        elif not isinstance(end, Finished):
            return
        rows = Generator.objects.filter(pk=self.generator.pk).exclude(state=Generator.State.LOST)
        patiently(lambda: rows.update(seen_at=Now(), acknowledged=self._acknowledged, **fields))
