"""What may happen to a run: the one place where its state changes."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.db import connection, transaction
from django.db.models.functions import Now
from django.utils import timezone

from stonekettle.engine.lifecycle import ENDED, RunState, check_move
from stonekettle.engine.signals import Verb
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.parts import PRACTICE
from stonekettle.plan.secrecy import hidden, origin_of
from stonekettle.server import queueing
from stonekettle.server.access import halting
from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment, Revision
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.models import TARGET_LENGTH, Run, RunSecond, RunWish, Transition
from stonekettle.server.systems import rules as systems
from stonekettle.server.systems import runners
from stonekettle.server.targets import allowances

MOST_RUNS = 4
"""So many side by side have a worker each."""
CONDUCTOR_SILENCE = timedelta(seconds=20)
"""A run whose conductor gave no sign of life for so long has lost it."""


def target_of(plan: Plan) -> str:
    """What a run loads: scheme, host and port of its system; the practice system is one, whatever its part."""
    origin = origin_of(plan.system.base_url)
    return PRACTICE if origin.startswith(f"{PRACTICE}://") else origin[:TARGET_LENGTH]


@act("started", Role.PLANNER)
def start(account: Account, experiment: Experiment, begins_at: datetime | None = None, again: int = 0) -> Run:
    """Queue a run of the revision in force, whose load begins at ``begins_at``, or once it is ready; ``again`` so many
    runs follow it. One at a time on each system: runs would disturb each other."""
    halting.check()
    if experiment.archived_at is not None:
        raise Conflict(f"{experiment.name} is archived. Bring it back before you run it.")
    plan = experiments.current_plan(experiment)
    if plan.turns is not None:
        what = "candidates, which take turns" if plan.scaling is None else "values that take turns"
        raise Conflict(f"{experiment.name} has {what}: start those.")
    run = _made(account, experiment.current, plan, begins_at=begins_at, again=again, cause="Waiting for a worker.")
    account.about(
        "run", run.pk, experiment.name, note=f"at {hidden(run.target)}{', as scheduled' if begins_at else ''}"
    )
    conduct(run)
    return run


@act("started", Role.PLANNER)
def hold(account: Account, revision: Revision, plan: Plan, *, turn: str, cause: str) -> Run:
    """A run of a plan made from a revision, which takes its system and waits until it is asked for by :func:`conduct`.
    Raises as :func:`start`."""
    halting.check()
    run = _made(account, revision, plan, turn=turn, cause=cause)
    account.about("run", run.pk, revision.experiment.name, note=f"at {hidden(run.target)}: {turn}")
    return run


def conduct(run: Run) -> None:
    """Have a worker lead it."""
    queueing.ask(queueing.CONDUCT_RUN, "conductor", run_id=run.pk)


def _made(account: Account, revision: Revision, plan: Plan, **told: Any) -> Run:
    """A queued run, once it is known that it may be."""
    runners.check(account.actor, plan.addresses)
    allowances.check_start(plan)
    target = target_of(plan)
    with connection.cursor() as cursor:
        # Held until the end of the transaction, so that two cannot find the system free at once.
        cursor.execute("SELECT pg_advisory_xact_lock(hashtextextended(%s, 0))", [target])
    check_free(plan)
    run = Run.objects.create(
        target=target,
        revision=revision,
        system=revision.experiment.system,
        plan_document=document.to_document(plan),
        requested_by=account.actor.user,
        **told,
    )
    Transition.objects.create(run=run, state=run.state, cause=run.cause)
    if run.system is not None:
        systems.let_tell(run.system)
    return run


def check_free(plan: Plan) -> None:
    """Whether nothing else runs on its system now. Raises :class:`Conflict`."""
    under_way = Run.objects.in_progress()
    busy = under_way.filter(target=target_of(plan)).first()
    if busy is not None:
        raise Conflict(
            f"Run {busy.pk} is still {busy.state} on {plan.system.name}. Wait for its end, or stop it first."
        )
    if under_way.count() >= MOST_RUNS:
        raise Conflict(f"{MOST_RUNS} runs are under way, which is as many as go side by side. Wait for one to end.")


@transaction.atomic
def move(run_id: int, state: RunState, cause: str) -> Run:
    """Change a run's state, with its time and cause. Raises for a move the table does not hold."""
    run = Run.objects.select_for_update().get(pk=run_id)
    check_move(run.run_state, state)
    cause = hidden(cause)
    run.state, run.cause = state.value, cause
    if state in ENDED:
        run.ended_at = timezone.now()
    run.save(update_fields=["state", "cause", "ended_at"])
    Transition.objects.create(run=run, state=run.state, cause=cause)
    return run


@act("stopped", Role.PLANNER)
def request_stop(account: Account, run: Run, why: str = "") -> RunWish:
    """Ask a run to end: its users finish the step they are in. Asked again, the first wish stands."""
    if run.run_state in ENDED:
        raise Conflict(f"Run {run.pk} has already ended ({run.state}).")
    user_name = account.actor.name
    Run.objects.filter(pk=run.pk, stop_requested_by="").update(stop_requested_by=user_name)
    Run.objects.goes_on(run.pk)
    _about(account, run, why)
    wish, _ = RunWish.objects.get_or_create(run=run, verb=Verb.STOP.value, defaults={"who": user_name, "why": why})
    if run.run_state == RunState.QUEUED:
        stopped = move(run.pk, RunState.STOPPED, f"Stopped by {user_name} before a worker took it.")
        wish.accepted, wish.answer = True, stopped.cause
        wish.save(update_fields=["accepted", "answer"])
    return wish


PAST_ITS_TIME = "how long its system keeps runs"
"""Who deletes a run that is past its time."""
UNDO_FOR = timedelta(days=1)
"""A deleted run can be had back for so long."""


@act("deleted", Role.ADMINISTRATOR)
def delete(account: Account, run: Run) -> None:
    """Take an ended run out of every list; a day later it is gone."""
    if run.run_state not in ENDED:
        raise Conflict(f"Run {run.pk} is still {run.state}. Stop it first.")
    there = Run.objects.filter(pk=run.pk, deleted_at=None)
    if there.update(deleted_at=timezone.now(), deleted_by=account.actor.name):
        _about(account, run)


@act("had back", Role.ADMINISTRATOR)
def restore(account: Account, run: Run) -> None:
    """Have a deleted run back. One that its system would keep no longer is kept from now on."""
    kept = run.kept or run.deleted_by == PAST_ITS_TIME
    Run.objects.filter(pk=run.pk).update(deleted_at=None, deleted_by="", kept=kept)
    _about(account, run)


@act("changed how long to keep", Role.PLANNER)
def keep(account: Account, run: Run, *, kept: bool) -> None:
    """Keep a run always, or only as long as its system keeps runs."""
    Run.objects.filter(pk=run.pk).update(kept=kept)
    _about(account, run, "always" if kept else "as long as its system says")


def _about(account: Account, run: Run, note: str = "") -> None:
    account.about("run", run.pk, run.revision.experiment.name, note=note)


def check_analysable(run: Run) -> None:
    """Refuse to analyse anew what is there no more: requests are needed where the generators stood still."""
    check_seconds(run)
    stood_still = RunSecond.objects.filter(run=run, every=1).exclude(told__stalls=[])
    if run.requests_gone_at is not None and stood_still.exists():
        raise Conflict(
            f"The requests of run {run.pk} are gone, and its generators stood still at times: which of its response "
            "times that touched is not to be told any more. Its findings stand as they are."
        )


def check_requests(run: Run) -> None:
    """Refuse what needs the single requests of a run that has none any more, or that came without."""
    if run.seeded:
        check_seconds(run)
    if run.requests_gone_at is not None:
        raise Conflict(
            f"The requests of run {run.pk} are gone since {run.requests_gone_at:%-d %B %Y}: its system did not keep "
            "them any longer."
        )


def check_seconds(run: Run) -> None:
    """Refuse what needs the seconds of a run that has none any more, or that came without."""
    if run.seeded:
        raise Conflict(
            f"Run {run.pk} was made by the practice twin; its single seconds and requests did not come with it. "
            "Rehearse the experiment, or start it, for a run that has them."
        )
    if run.seconds_gone_at is not None:
        raise Conflict(
            f"The seconds of run {run.pk} are gone since {run.seconds_gone_at:%-d %B %Y}: its system did not keep them "
            "any longer. Its findings stand as they are."
        )


OURSELVES = "./kettle stop"
"""Who stops a run when Stone Kettle itself is stopped."""
_silent_before: dict[int, datetime] = {}
"""Of the look before: runs whose conductor was silent, with its last sign of life."""


def abandoned() -> list[Run]:
    """Runs in progress whose conductor is gone: silent at this look and at the one before, without a sign of
    life between them. One look proves nothing, as after an outage of the database all signs are old."""
    silent = list(Run.objects.in_progress().filter(conductor_seen_at__lt=Now() - CONDUCTOR_SILENCE))
    gone = [run for run in silent if _silent_before.get(run.pk) == run.conductor_seen_at]
    _silent_before.clear()
    _silent_before.update({run.pk: run.conductor_seen_at for run in silent if run.conductor_seen_at})
    return gone
