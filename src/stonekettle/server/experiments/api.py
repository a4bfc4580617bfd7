"""Experiments over HTTP."""

from __future__ import annotations

from datetime import datetime

from django.db.models import OuterRef, QuerySet, Subquery
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status

from stonekettle.plan import document
from stonekettle.plan.checking import MAX_BYTES
from stonekettle.plan.problems import PlanError
from stonekettle.server.access.roles import actor_of
from stonekettle.server.experiments import outline, rules
from stonekettle.server.experiments.models import Experiment, Revision
from stonekettle.server.runs.models import Run

router = Router(tags=["experiments"])


class Source(Schema):
    """A plan document in YAML or JSON."""

    source: str = Field(max_length=MAX_BYTES)


class RevisedSource(Source):
    """The document as it was changed from revision ``base``."""

    base: int


class ExperimentLine(Schema):
    """One of the list: ``load`` is the planned one in few corners, ``own_journeys`` are those it
    writes out itself. ``fault`` says why its document cannot be read any more; the figures are then empty."""

    id: int
    fault: str | None
    name: str
    question: str
    system: str
    duration_s: float
    peak_users: float
    load: list[outline.Corner]
    own_journeys: list[str]
    revision: int
    changed_at: datetime
    last_run_id: int | None
    last_run_state: str | None
    last_run_verdict: str | None
    last_run_simulated: bool | None


class RevisionLine(Schema):
    number: int
    created_at: datetime
    author: str | None


class ExperimentDetail(Schema):
    id: int
    name: str
    revision: int
    source: str
    system_id: int | None
    outline: outline.PlanOutline
    revisions: list[RevisionLine]


class Created(Schema):
    id: int


class RestoreBody(Schema):
    revision: int


@router.get("/experiments", response=list[ExperimentLine])
def list_experiments(request: HttpRequest) -> list[ExperimentLine]:
    """All experiments, the last changed first, each with its last run."""
    newest = Revision.objects.filter(experiment=OuterRef("pk")).order_by("-number")
    last_run = Run.objects.there().filter(revision__experiment=OuterRef("pk")).order_by("-pk")
    experiments = (
        Experiment.objects.order_by("-changed_at")
        .select_related("system")
        .annotate(
            revision_number=Subquery(newest.values("number")[:1]),
            references=Subquery(newest.values("references")[:1]),
            document=Subquery(newest.values("document")[:1]),
            last_run_id=Subquery(last_run.values("pk")[:1]),
            last_run_simulated=Subquery(last_run.values("simulated")[:1]),
            last_run_state=Subquery(last_run.values("state")[:1]),
            last_run_verdict=Subquery(last_run.values("verdict")[:1]),
        )
    )
    return [_line(experiment) for experiment in experiments]


@router.post("/experiments", response={201: Created})
def create_experiment(request: HttpRequest, body: Source) -> Status[Created]:
    """A new experiment from a plan document."""
    return Status(201, Created(id=rules.create(actor_of(request), body.source).pk))


@router.post("/plans/check", response=outline.PlanOutline)
def check_plan(request: HttpRequest, body: Source) -> outline.PlanOutline:
    """Check a document without saving it: its outline, or every problem found."""
    return outline.of(rules.read_plan(body.source))


@router.get("/experiments/{experiment_id}", response=ExperimentDetail)
def get_experiment(request: HttpRequest, experiment_id: int) -> ExperimentDetail:
    return _detail(get_object_or_404(Experiment, pk=experiment_id))


@router.put("/experiments/{experiment_id}", response=ExperimentDetail)
def revise_experiment(request: HttpRequest, experiment_id: int, body: RevisedSource) -> ExperimentDetail:
    """Save a new revision of the document."""
    experiment = get_object_or_404(Experiment, pk=experiment_id)
    rules.revise(actor_of(request), experiment, body.source, body.base)
    return _detail(Experiment.objects.get(pk=experiment_id))


@router.post("/experiments/{experiment_id}/restore", response=ExperimentDetail)
def restore_revision(request: HttpRequest, experiment_id: int, body: RestoreBody) -> ExperimentDetail:
    """Make an earlier revision the newest one."""
    experiment = get_object_or_404(Experiment, pk=experiment_id)
    get_object_or_404(Revision, experiment=experiment, number=body.revision)
    rules.restore(actor_of(request), experiment, body.revision)
    return _detail(Experiment.objects.get(pk=experiment_id))


def _line(experiment: Experiment) -> ExperimentLine:
    plan, fault = None, None
    try:
        plan = document.stored(experiment.document)  # type: ignore[attr-defined]
    except PlanError as error:
        fault = str(error.problems[0])
    return ExperimentLine(
        id=experiment.pk,
        fault=fault,
        name=experiment.name,
        question=plan.question if plan else "",
        system=experiment.system.name if experiment.system else plan.system.name if plan else "",
        duration_s=plan.planned.duration_s if plan else 0,
        peak_users=plan.planned.peak_users if plan else 0,
        load=outline.sketch(plan) if plan else [],
        own_journeys=rules.own_journeys(experiment.references, experiment.document),  # type: ignore[attr-defined]
        revision=experiment.revision_number,  # type: ignore[attr-defined]
        changed_at=experiment.changed_at,
        last_run_id=experiment.last_run_id,  # type: ignore[attr-defined]
        last_run_simulated=experiment.last_run_simulated,  # type: ignore[attr-defined]
        last_run_state=experiment.last_run_state,  # type: ignore[attr-defined]
        last_run_verdict=experiment.last_run_verdict,  # type: ignore[attr-defined]
    )


def _detail(experiment: Experiment) -> ExperimentDetail:
    revisions: QuerySet[Revision] = experiment.revisions.select_related("author")
    lines = list(revisions.defer("document"))
    current = lines[0]
    return ExperimentDetail(
        id=experiment.pk,
        name=experiment.name,
        revision=current.number,
        source=current.text,
        system_id=experiment.system_id,
        outline=outline.of(experiment.current.plan),
        revisions=[
            RevisionLine(
                number=r.number,
                created_at=r.created_at,
                author=r.author.get_username() if r.author else None,
            )
            for r in lines
        ],
    )
