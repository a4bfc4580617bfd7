"""What may be changed of a system while a run loads it."""

from __future__ import annotations

import time
from collections.abc import Mapping

from stonekettle.engine.lifecycle import RunState
from stonekettle.plan.calls import Change
from stonekettle.plan.parts import PRACTICE
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.system import Operations
from stonekettle.server import queueing
from stonekettle.server.access import halting
from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.models import Run
from stonekettle.server.systems import runners

MOST = 100
MOST_AT_ONCE = 20


@act("changed the system under", Role.PLANNER)
def ask(account: Account, run: Run, name: str, values: Mapping[str, str]) -> SystemChange:
    """Ask for a change of the system that a run loads; a worker has it made. Raises :class:`Conflict` where nothing may
    be changed now, and :class:`PlanError` for what cannot be put into the call."""
    halting.check()
    where = f"{PRACTICE}://gateway" if run.target == PRACTICE else run.target
    runners.check(account.actor, [("target", where)])
    if run.simulated:
        raise Conflict(f"Run {run.pk} is a rehearsal: there is no system behind it to change.")
    if run.run_state != RunState.RUNNING or run.begun_at is None:
        raise Conflict(f"Run {run.pk} makes no load now ({run.state}), so nothing is changed under it.")
    _, change = known(run, name)
    change.filled(values)
    change.started(values)
    components = [component.name for component in run.plan.system.components]
    if "component" in change.asks and values["component"] not in components:
        message = f"there is no component named {values['component']!r}."
        raise PlanError([Problem("values.component", message, f"There are: {', '.join(components)}.")])
    open_now = [one for one in run.changes.defer("each") if not one.is_over]
    if len(open_now) >= MOST_AT_ONCE:
        raise Conflict(f"{MOST_AT_ONCE} changes are under way: {open_now[0].words}, for one. Wait until one is done.")
    if run.changes.count() >= MOST:
        raise Conflict(f"Run {run.pk} has seen {MOST} changes, which is as many as it can.")
    made = SystemChange.objects.create(
        run=run,
        name=name,
        values={asked: values[asked] for asked in change.asks},
        who=account.actor.name,
        asked_s=round(time.time() - run.begun_at, 3),
    )
    account.about("run", run.pk, run.revision.experiment.name, note=made.words)
    Run.objects.goes_on(run.pk)
    queueing.ask(queueing.MAKE_CHANGE, "conductor", change_id=made.pk)
    return made


def known(run: Run, name: str) -> tuple[Operations, Change]:
    """The operations of a run's system and the change of this name. Raises :class:`Conflict`."""
    operations = run.plan.system.operations
    if operations is None or not operations.changes:
        raise Conflict(
            f"{run.plan.system.name} has no changes described that could be asked for. Describe them under Systems, "
            "with its operations, before the run begins."
        )
    for change in operations.changes:
        if change.name == name:
            return operations, change
    names = ", ".join(change.name for change in operations.changes)
    raise Conflict(f"{run.plan.system.name} knows no change called {name!r}. There are: {names}.")
