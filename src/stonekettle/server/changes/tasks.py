"""Having a change made: the call, then asking until it is done, each moment noted on the clock of the run."""

from __future__ import annotations

import json
import time

from django.conf import settings
from procrastinate.contrib.django import app

from stonekettle.engine.actions import ActionFailed, Changer
from stonekettle.engine.errors import EngineError
from stonekettle.engine.lifecycle import ENDED
from stonekettle.engine.local import practice_directory
from stonekettle.plan import system_document
from stonekettle.plan.calls import Call, Ready
from stonekettle.plan.problems import PlanError
from stonekettle.plan.secrecy import hidden
from stonekettle.plan.system import Operations
from stonekettle.server.access import halting
from stonekettle.server.changes import rules
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.problems import Conflict, fault
from stonekettle.server.runs.models import Run, RunMarker
from stonekettle.server.targets import allowances

State = SystemChange.State
MOST_TOLD = 2_000


@app.task(queue="conductor")
def make(change_id: int) -> None:
    """Make a change that was asked for, and say in its run what became of it."""
    change = SystemChange.objects.select_related("run").get(pk=change_id)
    if change.state != State.ASKED:
        return
    try:
        operations, described = rules.known(change.run, change.name)
        call, ready = described.filled(change.values)
        _made(change, operations, call, ready)
    except (ActionFailed, Conflict, PlanError, EngineError) as error:
        _failed(change, str(error))
    except Exception as error:
        _failed(change, fault(f"change {change_id}", error)["detail"])


def _made(change: SystemChange, operations: Operations, call: Call, ready: Ready | None) -> None:
    with _changer(change.run, operations) as changer:
        changer.do(call)
        change.accepted_s, change.state = _now(change.run), State.ACCEPTED
        _save(change, "accepted_s", "state")
        _mark(change, change.accepted_s, f"{change.words}: accepted")

        def told(text: str) -> None:
            found = _counts(text)
            known = tuple(change.told[-1][1:]) if change.told else None
            if found is not None and found != known and len(change.told) < MOST_TOLD:
                change.told.append([_now(change.run), *found])
                _save(change, "told")

        if ready is not None:
            changer.await_ready(ready, operations.address, told)
            change.ready_s = _now(change.run)
    # Where nothing tells that it is ready, it is done once it was accepted, and no more is claimed.
    change.state = State.READY
    _save(change, "ready_s", "state")
    if change.ready_s is not None:
        took = change.ready_s - change.asked_s
        of = f", {change.told[-1][1]} of {change.told[-1][2]}" if change.told else ""
        _mark(change, change.ready_s, f"{change.words}: ready{of}, {took:.1f} s after it was asked for")


def _failed(change: SystemChange, why: str) -> None:
    change.state, change.fault = State.FAILED, hidden(why)
    _save(change, "state", "fault")
    _mark(change, _now(change.run), f"{change.words}: failed")


def _changer(run: Run, operations: Operations) -> Changer:
    """What makes the call, only where load may go too, and while the run is under way."""
    directory = practice_directory(settings.PRACTICE_CONTROL)
    there = system_document.in_practice(operations.address, directory)
    allowance = allowances.confirmed([("operations.address", url) for url in there])

    def check() -> None:
        if (halt := halting.in_force()) is not None:
            raise ActionFailed(f"all load was halted: {halt.words}")
        if Run.objects.get(pk=run.pk).run_state in ENDED:
            raise ActionFailed("the run ended before it was done")

    return Changer(operations, allowance.refusal, directory, check)


def _counts(text: str) -> tuple[int, int] | None:
    """How many are ready, of how many, where an answer tells that."""
    try:
        said = json.loads(text)
    except ValueError:
        return None
    counts = [said.get(name) for name in ("ready", "instances")] if isinstance(said, dict) else []
    whole = [one for one in counts if isinstance(one, int) and not isinstance(one, bool)]
    return (whole[0], whole[1]) if len(whole) == 2 else None


def _now(run: Run) -> float:
    return round(time.time() - (run.begun_at or 0.0), 3)


def _save(change: SystemChange, *fields: str) -> None:
    change.save(update_fields=fields)
    Run.objects.goes_on(change.run_id)


def _mark(change: SystemChange, at_s: float, text: str) -> None:
    RunMarker.objects.create(run_id=change.run_id, at_s=at_s, text=text, who=change.who)
