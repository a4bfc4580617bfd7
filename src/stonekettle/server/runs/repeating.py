"""Runs that follow one another: the same experiment again, since a single run does not know what runs differ by."""

from __future__ import annotations

from stonekettle.engine.lifecycle import RunState
from stonekettle.server.access.roles import Actor
from stonekettle.server.problems import Conflict, expected, fault
from stonekettle.server.runs import rules
from stonekettle.server.runs.models import Run, RunNote

MOST = 10
WHO = "the repeats"


def follow(run_id: int) -> None:
    """Start the run that follows one that has ended, and tell of it there; or why none does."""
    run = Run.objects.select_related("revision__experiment", "requested_by").get(pk=run_id)
    if not run.again:
        return
    try:
        text = _followed(run)
    except Exception as error:
        known = expected(error)
        text = f"Not repeated: {(known or fault(f'the repeat of run {run_id}', error))['detail']}"
    at_s = run.ended_at.timestamp() - run.begun_at if run.ended_at and run.begun_at else 0.0
    RunNote.objects.create(run=run, at_s=at_s, who=WHO, text=text)


def _followed(run: Run) -> str:
    if run.run_state != RunState.FINISHED:
        raise Conflict(f"it ended as {run.state}.")
    experiment = run.revision.experiment
    if experiment.current.pk != run.revision_id:
        raise Conflict(f"{experiment.name} was changed meanwhile, so it would be another run.")
    after = rules.start(Actor.of(run.requested_by), experiment, again=run.again - 1)
    return f"Run {after.pk} follows it{f', and {after.again} more' if after.again else ''}."
