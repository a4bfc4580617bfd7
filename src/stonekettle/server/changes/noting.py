"""Notes what becomes of a change, moment by moment, in it and as markers of its run; and makes its calls."""

from __future__ import annotations

import time
from collections.abc import Callable

from django.conf import settings

from stonekettle.engine.actions import ActionFailed, Changer
from stonekettle.engine.lifecycle import ENDED
from stonekettle.engine.local import practice_directory
from stonekettle.plan import system_document
from stonekettle.plan.secrecy import hidden
from stonekettle.plan.system import Operations
from stonekettle.server.access import halting
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.runs.models import Run, RunMarker
from stonekettle.server.targets import allowances

State = SystemChange.State


def failed(change: SystemChange, why: str) -> None:
    change.state, change.fault = State.FAILED, hidden(why)
    save(change, "state", "fault")
    mark(change, now(change.run), f"{change.words}: failed")


def changer(run: Run, operations: Operations, may_go_on: Callable[[], None] | None = None) -> Changer:
    """What makes the call, only where load may go too, and while the run is under way, or as ``may_go_on`` says."""
    directory = practice_directory(settings.PRACTICE_CONTROL)
    there = system_document.in_practice(operations.address, directory)
    allowance = allowances.confirmed([("operations.address", url) for url in there])
    return Changer(operations, allowance.refusal, directory, may_go_on or (lambda: check(run)))


def check(run: Run) -> None:
    """Raises :class:`ActionFailed` where nothing may be asked any more."""
    if (halt := halting.in_force()) is not None:
        raise ActionFailed(f"all load was halted: {halt.words}")
    if Run.objects.get(pk=run.pk).run_state in ENDED:
        raise ActionFailed("the run ended before it was done")


def accepted(change: SystemChange) -> None:
    change.accepted_s, change.state = now(change.run), State.ACCEPTED
    save(change, "accepted_s", "state")
    mark(change, change.accepted_s, f"{change.words}: accepted")


def now(run: Run) -> float:
    return round(time.time() - (run.begun_at or 0.0), 3)


def save(change: SystemChange, *fields: str) -> None:
    change.save(update_fields=fields)
    Run.objects.goes_on(change.run_id)


def mark(change: SystemChange, at_s: float, text: str) -> None:
    RunMarker.objects.create(run_id=change.run_id, at_s=at_s, text=text, who=change.who)
