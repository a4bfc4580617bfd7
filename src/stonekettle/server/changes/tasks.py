"""Having a change made: the call, then asking until it is done, each moment noted on the clock of the run."""

from __future__ import annotations

import json

from procrastinate.contrib.django import app

from stonekettle.engine.actions import ActionFailed
from stonekettle.engine.errors import EngineError
from stonekettle.plan.calls import Call, Ready
from stonekettle.plan.problems import PlanError
from stonekettle.plan.system import Operations
from stonekettle.server.changes import noting, rules, storms
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.changes.noting import State
from stonekettle.server.problems import Conflict, fault

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
        many = described.started(change.values)
        if many is None or described.probe is None:
            _made(change, operations, call, ready)
        else:
            storms.start(change, operations, many, described.probe)
    except (ActionFailed, Conflict, PlanError, EngineError) as error:
        noting.failed(change, str(error))
    except Exception as error:
        noting.failed(change, fault(f"change {change_id}", error)["detail"])


def _made(change: SystemChange, operations: Operations, call: Call, ready: Ready | None) -> None:
    with noting.changer(change.run, operations) as changer:
        changer.do(call)
        noting.accepted(change)

        def told(text: str) -> None:
            found = _counts(text)
            known = tuple(change.told[-1][1:]) if change.told else None
            if found is not None and found != known and len(change.told) < MOST_TOLD:
                change.told.append([noting.now(change.run), *found])
                noting.save(change, "told")

        if ready is not None:
            changer.await_ready(ready, operations.address, told)
            change.ready_s = noting.now(change.run)
    # Where nothing tells that it is ready, it is done once it was accepted, and no more is claimed.
    change.state = State.READY
    noting.save(change, "ready_s", "state")
    if change.ready_s is not None:
        took = change.ready_s - change.asked_s
        of = f", {change.told[-1][1]} of {change.told[-1][2]}" if change.told else ""
        noting.mark(change, change.ready_s, f"{change.words}: ready{of}, {took:.1f} s after it was asked for")


def _counts(text: str) -> tuple[int, int] | None:
    """How many are ready, of how many, where an answer tells that."""
    try:
        said = json.loads(text)
    except ValueError:
        return None
    counts = [said.get(name) for name in ("ready", "instances")] if isinstance(said, dict) else []
    whole = [one for one in counts if isinstance(one, int) and not isinstance(one, bool)]
    return (whole[0], whole[1]) if len(whole) == 2 else None
