"""Watches over the targets of a run under way: where one is no longer allowed, the run ends."""

from __future__ import annotations

import threading
import time

from django.conf import settings
from django.db import InterfaceError, OperationalError, connection

from stonekettle.engine.allowance import Allowance
from stonekettle.server.access.roles import Actor
from stonekettle.server.problems import Conflict, fault
from stonekettle.server.runs import rules as runs
from stonekettle.server.runs.models import Run
from stonekettle.server.targets import rules
from stonekettle.server.targets.models import Target

LOOK_S = 1.0
BY = "the guard of targets"


class Guarding:
    """On a thread of its own while a run is led, since proving takes its time. Use as a context."""

    def __init__(self, run_id: int) -> None:
        self.run_id = run_id
        self._over = threading.Event()
        self._proven_at = time.monotonic()
        self._thread = threading.Thread(target=self._run, name="guard", daemon=True)

    def __enter__(self) -> Guarding:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join(LOOK_S + 1)

    def _run(self) -> None:
        try:
            while not self._over.wait(LOOK_S):
                try:
                    why = self._why_ended()
                except (OperationalError, InterfaceError):
                    connection.close()  # the database is away: its generators let go by themselves if it stays so
                    continue
                if why is not None:
                    self._end(why)
                    return
        except Exception as error:
            # Without a guard nobody would see that a target is taken back: the run ends.
            self._end(fault(f"the guard of run {self.run_id}", error)["detail"])
        finally:
            connection.close()

    def _why_ended(self) -> str | None:
        told = Run.objects.values_list("allowance", flat=True).get(pk=self.run_id)
        if told is None:
            return None  # not prepared yet
        due = time.monotonic() - self._proven_at >= settings.PROOF_EVERY_S
        if due:
            self._proven_at = time.monotonic()
        for permit in Allowance.of(told).permits:
            target = Target.objects.get(pk=permit.number)
            if due and target.way == Target.Way.PROVEN:
                # A server under load may fail to answer; only its own "no" takes the proof back.
                rules.confirm(target)
                target.refresh_from_db()
            if (why := target.why_not()) is not None:
                return f"The target {target.told.host} {why.rstrip('.')}."
        return None

    def _end(self, why: str) -> None:
        try:
            runs.request_stop(Actor.itself(BY), Run.objects.get(pk=self.run_id), why)
        except Conflict:
            pass  # it has ended by itself
