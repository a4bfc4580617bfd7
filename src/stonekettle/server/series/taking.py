"""Takes the turns of a series one after the other: brings a candidate under load, has it measured, and ends it.

Between turns nothing is held in memory: whoever looks next goes on from what the database tells. The run of a turn is
there, and its system with it, before the system is changed, so that nobody else's run comes between.
"""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict
from datetime import timedelta

from django.conf import settings
from django.db import connection, transaction
from django.db.models.functions import Now
from django.utils import timezone

from stonekettle.engine.actions import ActionFailed, Changer
from stonekettle.engine.errors import EngineError, Halted
from stonekettle.engine.lifecycle import ENDED, RunState
from stonekettle.engine.local import practice_directory
from stonekettle.plan import system_document
from stonekettle.plan.candidates import Candidate, Value
from stonekettle.plan.models import Plan
from stonekettle.plan.secrecy import hidden
from stonekettle.server import queueing
from stonekettle.server.access import halting
from stonekettle.server.access.roles import Actor
from stonekettle.server.problems import Conflict, expected, fault
from stonekettle.server.runs import rules as runs
from stonekettle.server.runs.keeping import AWAY
from stonekettle.server.runs.models import Run
from stonekettle.server.series import findings, rules
from stonekettle.server.series.models import Series, Turn
from stonekettle.server.targets import allowances

SIGN_S = 2.0
SILENCE = timedelta(seconds=30)
"""A worker without a sign of life for so long has been lost."""
COMES = timedelta(minutes=5)
"""So long a worker that was asked for may be busy with something else."""
LONGEST_WAIT = timedelta(hours=1)
"""So long another run may stand in the way of a turn."""


class _Stopped(EngineError):
    """The turn's run was ended before it had begun."""


def keep() -> None:
    """Let every series go on that can. Called every few seconds."""
    for series in Series.objects.filter(state=Series.State.GOING):
        if series.busy:
            if Series.objects.filter(pk=series.pk, busy=True, seen_at__lt=Now() - SILENCE).exists():
                _lost(series)
            continue
        turn = series.current
        waits = turn is not None and turn.run is not None and turn.run.run_state not in ENDED
        if not waits and Series.objects.filter(pk=series.pk, busy=False).update(busy=True, seen_at=Now() + COMES):
            queueing.ask(queueing.TAKE_TURN, "conductor", series_id=series.pk)


def take(series_id: int) -> None:
    """End the turn that is over, and begin the next one."""
    series = Series.objects.select_related("experiment", "revision__experiment", "requested_by").get(pk=series_id)
    if series.state != Series.State.GOING:
        return
    over = series.turns.filter(over=True).count()
    with _Sign(series_id):
        try:
            _go_on(series)
        except Exception as error:
            rules.end(series, Series.State.FAILED, _told(error, series_id))
        finally:
            Series.objects.filter(pk=series_id).update(busy=False)
    # Reading every turn takes a while: not each time another run is waited for.
    series.refresh_from_db(fields=["state"])
    if series.state != Series.State.GOING or series.turns.filter(over=True).count() > over:
        findings.note(series)


class _Sign:
    """Gives a sign of life while a worker changes a system. Use as a context."""

    def __init__(self, series_id: int) -> None:
        self._series_id = series_id
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, name="sign", daemon=True)

    def __enter__(self) -> None:
        self._give()
        self._thread.start()

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join(SIGN_S + 1)

    def _run(self) -> None:
        try:
            while not self._over.wait(SIGN_S):
                with suppress(*AWAY):
                    self._give()
        finally:
            connection.close()

    def _give(self) -> None:
        Series.objects.filter(pk=self._series_id).update(seen_at=Now())


def _lost(series: Series) -> None:
    turn = series.current
    cause = "The worker that changed the system was lost; the system may be as the turn left it."
    if turn is not None and turn.run is not None and turn.run.run_state == RunState.QUEUED:
        runs.move(turn.run.pk, RunState.FAILED, cause)
    rules.end(series, Series.State.FAILED, cause)


def _go_on(series: Series) -> None:
    plan = series.plan
    turn = series.current
    if turn is not None and turn.run is not None:
        _end_turn(plan, turn, turn.run, undone=_follows(series, turn))
        if turn.run.run_state != RunState.FINISHED:
            by_hand = bool(series.stop_requested_by or turn.run.stop_requested_by)
            state = Series.State.STOPPED if turn.run.run_state == RunState.STOPPED else Series.State.FAILED
            who = f"Stopped by {series.stop_requested_by or turn.run.stop_requested_by}" if by_hand else ""
            cause = who or f"Run {turn.run.pk}, {rules.label(turn, series.plan)}, ended as {turn.run.state}"
            rules.end(series, state, f"{cause}: {turn.run.cause}" if turn.run.cause and not by_hand else f"{cause}.")
            return
        turn = series.current
    series.refresh_from_db(fields=["stop_requested_by"])
    if series.stop_requested_by:
        rules.end(series, Series.State.STOPPED, f"Stopped by {series.stop_requested_by}.")
    elif turn is None:
        rules.end(series, Series.State.FINISHED, rules.DONE)
    else:
        _begin_turn(series, plan, turn)


def _begin_turn(series: Series, plan: Plan, turn: Turn) -> None:
    own = rules.plan_of(turn, plan)
    about = rules.label(turn, series.plan)
    cause = f"{turn.words} is being brought under load."
    try:
        run = runs.hold(Actor.of(series.requested_by), series.revision, own, turn=about, cause=cause)
    except Conflict as error:
        _wait(series, str(error))
        return
    with transaction.atomic():
        # Who stops the series from here on finds the run; who did so while it was made is heard now.
        stopped_by = Series.objects.select_for_update(of=("self",)).get(pk=series.pk).stop_requested_by
        Series.objects.filter(pk=series.pk).update(cause="", waits_since=None)
        Turn.objects.filter(pk=turn.pk).update(run=run)
    if stopped_by:
        runs.move(run.pk, RunState.STOPPED, f"Stopped by {stopped_by} before its turn.")
        return  # its end is seen at the next look
    try:
        _bring(plan, turn, own, run)
    except _Stopped:
        return  # its end is seen at the next look
    except Exception as error:
        # Whatever it was: a run that waits for ever would hold the system.
        runs.move(run.pk, RunState.FAILED, _told(error, series.pk))
        Turn.objects.filter(pk=turn.pk).update(over=True)
        raise
    runs.conduct(run)


def _bring(plan: Plan, turn: Turn, own: Plan, run: Run) -> None:
    """Bring the turn's candidate under load; what was begun is ended where that fails."""
    parts = _brought(plan, turn)
    with _changer(plan, run) as changer:
        try:
            turn.ready_after_s = changer.begin(parts, own.system.base_url)
        except (ActionFailed, Halted):
            with suppress(ActionFailed, Halted):
                changer.end(parts)
            raise
        finally:
            turn.done = _shown([asdict(one) for one in changer.done])
            Turn.objects.filter(pk=turn.pk).update(done=turn.done, ready_after_s=turn.ready_after_s)


def _told(error: Exception, series_id: int) -> str:
    """What an error says to people."""
    if isinstance(error, EngineError):
        return str(error)
    return str((expected(error) or fault(f"series {series_id}", error))["detail"])


def _wait(series: Series, why: str) -> None:
    """Something else runs on the system: try again soon, though not for ever."""
    since = series.waits_since or timezone.now()
    if timezone.now() - since > LONGEST_WAIT:
        raise Conflict(f"Another run stood in the way for over an hour: {why}")
    Series.objects.filter(pk=series.pk).update(cause=f"Waits: {why}", waits_since=since)


def _follows(series: Series, turn: Turn) -> bool:
    """Whether another value is set next, so that going back to where the system was would be for nothing."""
    series.refresh_from_db(fields=["stop_requested_by"])
    if series.plan.scaling is None or series.stop_requested_by:
        return False
    ended = turn.run is not None and turn.run.run_state == RunState.FINISHED
    return ended and series.turns.filter(over=False).exclude(pk=turn.pk).exists()


def _end_turn(plan: Plan, turn: Turn, run: Run, *, undone: bool) -> None:
    """Do what ends it, unless that may stay ``undone``. What fails there is told, and spoils nothing that was
    measured."""
    done: list[dict[str, object]] = []
    if undone:
        Turn.objects.filter(pk=turn.pk).update(over=True)
        return
    try:
        with _changer(plan, None) as changer:
            try:
                changer.end(_brought(plan, turn))
            finally:
                done += [asdict(one) for one in changer.done]
    except EngineError as error:
        done.append({"what": "what ends it", "at_s": 0.0, "took_s": 0.0, "outcome": str(error)})
    Turn.objects.filter(pk=turn.pk).update(over=True, done=[*turn.done, *_shown(done)])


def _shown(done: Sequence[Mapping[str, object]]) -> list[dict[str, object]]:
    """What was done, without secrets."""
    return [{**one, "what": hidden(str(one["what"])), "outcome": hidden(str(one["outcome"]))} for one in done]


def _brought(plan: Plan, turn: Turn) -> list[Candidate | Value]:
    assert plan.turns is not None  # a series' plan
    return [one for one in turn.parts(plan.turns) if one is not None]


def _changer(plan: Plan, run: Run | None) -> Changer:
    """What changes the system, only where load may go too, and until the run is ended."""
    directory = practice_directory(settings.PRACTICE_CONTROL)
    addresses = [(path, url) for path, where in plan.addresses for url in system_document.in_practice(where, directory)]
    allowance = allowances.confirmed(addresses)
    operations = system_document.resolved(plan.system, directory).operations

    def check() -> None:
        if (halt := halting.in_force()) is not None:
            raise Halted(halt.words)
        if run is not None and Run.objects.get(pk=run.pk).run_state in ENDED:
            raise _Stopped("its run was ended")

    return Changer(operations, allowance.refusal, directory, check)
