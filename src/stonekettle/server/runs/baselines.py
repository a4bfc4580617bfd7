"""Baselines: the run that an experiment's others are compared with, and what that said of each when it ended."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from django.utils import timezone
from ninja import Schema

from stonekettle.engine.lifecycle import ENDED
from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import comparisons
from stonekettle.server.runs.models import Baseline, Run


class BaselineLine(Schema):
    """A baseline of an experiment, in force while ``until`` is null."""

    run: int
    seeded: bool
    since: datetime
    until: datetime | None
    who: str


class Judged(Schema):
    """What the comparison with the baseline ``run`` said when this run ended; it may have found no load in common."""

    run: int
    verdict: Literal["faster", "slower", "no difference", "inconclusive", "not comparable"]
    sentence: str


def in_force(experiment_id: int, *, seeded: bool) -> Baseline | None:
    """What an experiment's measured runs are compared with now, or its seeded ones."""
    own = Baseline.objects.filter(experiment_id=experiment_id, until=None, run__seeded=seeded, run__deleted_at=None)
    return own.select_related("run").first()


def of(experiment_id: int) -> list[BaselineLine]:
    """All baselines an experiment has had, the newest first."""
    found = Baseline.objects.filter(experiment_id=experiment_id, run__deleted_at=None).select_related("run")
    return [
        BaselineLine(run=one.run_id, seeded=one.run.seeded, since=one.since, until=one.until, who=one.who)
        for one in found
    ]


@act("took as baseline", Role.PLANNER)
def take(account: Account, run: Run) -> Baseline:
    """Compare the experiment's runs with this one from now on. Raises :class:`Conflict` where that would tell
    nothing."""
    if run.rehearsal:
        raise Conflict(f"Run {run.pk} is a rehearsal: a baseline has to be measured. Start the experiment for one.")
    if run.deleted_at is not None:
        raise Conflict(f"Run {run.pk} is deleted. Have it back before you take it as baseline.")
    if run.run_state not in ENDED or not (run.result or {}).get("findings"):
        raise Conflict(f"Run {run.pk} has no findings that others could be compared with.")
    if run.turn:
        raise Conflict(f"Run {run.pk} was a candidate's turn: turns are compared with those of the other candidates.")
    experiment = run.revision.experiment
    before = in_force(experiment.pk, seeded=run.seeded)
    if before is not None and before.run_id == run.pk:
        return before
    _end(experiment.pk, seeded=run.seeded)
    account.about("run", run.pk, experiment.name)
    return Baseline.objects.create(experiment=experiment, run=run, since=timezone.now(), who=account.actor.name)


@act("no longer takes as baseline", Role.PLANNER)
def drop(account: Account, run: Run) -> None:
    """Compare with it no more: the experiment has no baseline then."""
    ended = Baseline.objects.filter(run=run, until=None).update(until=timezone.now())
    if ended:
        account.about("run", run.pk, run.revision.experiment.name)


def _end(experiment_id: int, *, seeded: bool) -> None:
    standing = Baseline.objects.filter(experiment_id=experiment_id, until=None, run__seeded=seeded)
    standing.update(until=timezone.now())


def judge(run: Run) -> None:
    """Compare a run that has its findings with its experiment's baseline. Analysed anew it is compared with the one
    it was compared with before."""
    base = _base_of(run)
    run.against = None if base is None else _judged(base, run).model_dump()
    run.save(update_fields=["against"])


def _base_of(run: Run) -> Run | None:
    if run.rehearsal or run.turn or not (run.result or {}).get("findings"):
        return None
    if run.against is not None:
        before = Run.objects.there().filter(pk=run.against["run"]).first()
        if before is not None:
            return before
    known = in_force(run.revision.experiment_id, seeded=run.seeded)
    return None if known is None or known.run_id == run.pk else known.run


def _judged(base: Run, run: Run) -> Judged:
    try:
        found = comparisons.between([base], [run])
    except Conflict as conflict:
        return Judged(run=base.pk, verdict="not comparable", sentence=str(conflict))
    return Judged(run=base.pk, verdict=found.verdict, sentence=found.sentence)
