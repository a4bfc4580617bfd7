"""What may happen to an experiment."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import transaction

from stonekettle.engine.targets import check_allowed
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.experiments.models import Experiment, Revision


def read_plan(source: str) -> Plan:
    """A checked plan with allowed targets. Raises :class:`PlanError` with every problem."""
    plan = document.read(source)
    forbidden = check_allowed(plan.addresses)
    if forbidden:
        raise PlanError(Problem(e.path, e.message, e.mend) for e in forbidden)
    return plan


@transaction.atomic
def create(source: str, author: User | None) -> Experiment:
    """A new experiment from a document."""
    plan = read_plan(source)
    experiment = Experiment.objects.create(name=plan.name)
    _add_revision(experiment, 1, source, plan, author)
    return experiment


@transaction.atomic
def revise(experiment: Experiment, source: str, author: User | None) -> Revision:
    """A new revision; the old ones stay, and runs keep the one they used."""
    plan = read_plan(source)
    experiment = Experiment.objects.select_for_update().get(pk=experiment.pk)
    current = experiment.current
    if current.source == source:
        return current
    experiment.name = plan.name
    experiment.save()
    return _add_revision(experiment, current.number + 1, source, plan, author)


def restore(experiment: Experiment, number: int, author: User | None) -> Revision:
    """Undo: the state of an earlier revision becomes the newest one."""
    return revise(experiment, experiment.revisions.get(number=number).source, author)


def _add_revision(experiment: Experiment, number: int, source: str, plan: Plan, author: User | None) -> Revision:
    return Revision.objects.create(
        experiment=experiment,
        number=number,
        source=source,
        document=document.to_document(plan),
        author=author,
    )
