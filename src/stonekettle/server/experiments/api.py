"""Experiments over HTTP."""

from __future__ import annotations

from datetime import datetime

from django.db.models import OuterRef, QuerySet, Subquery
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status

from stonekettle.core.headroom import PeakIn
from stonekettle.plan import document
from stonekettle.plan.checking import MAX_BYTES
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.access.roles import actor_of
from stonekettle.server.drafts import DraftBody, StepBody
from stonekettle.server.experiments import outline, rules
from stonekettle.server.experiments.models import Experiment, Revision
from stonekettle.server.runs.models import Run
from stonekettle.server.series.models import Series

router = Router(tags=["experiments"])
MOST_PEAK = 1e9


class Source(Schema):
    """A plan document in YAML or JSON."""

    source: str = Field(max_length=MAX_BYTES)


class ExperimentLine(Schema):
    """One of the list: ``load`` is the planned one in few corners, ``own_journeys`` are those it
    writes out itself. Where candidates take ``turns`` (0: there are none), ``series_sentence`` is what the last of
    their series told. ``fault`` says why its document cannot be read any more; the figures are then empty."""

    id: int
    fault: str | None
    name: str
    question: str
    system: str
    duration_s: float
    peak_users: float
    load: list[outline.Corner]
    tags: list[str]
    archived: bool
    own_journeys: list[str]
    revision: int
    changed_at: datetime
    last_run_id: int | None
    last_run_state: str | None
    last_run_verdict: str | None
    last_run_simulated: bool | None
    last_run_seeded: bool | None
    turns: int
    series_id: int | None
    series_sentence: str | None
    series_state: str | None
    series_seeded: bool | None


class RevisionLine(Schema):
    """``changes`` says what differs from the one before; None: nobody noted it. ``in_force``: it is the one that runs;
    ``undone``: it comes after that one, or was undone and is kept for the runs it had."""

    number: int
    created_at: datetime
    author: str | None
    changes: list[str] | None
    in_force: bool
    undone: bool


class ExperimentDetail(Schema):
    """``document`` holds the text as ``source``; ``revision`` is the key of the one in force, ``number`` its number."""

    id: int
    name: str
    archived: bool
    document: dict[str, str]
    revision: int
    number: int
    can_undo: bool
    can_redo: bool
    system_id: int | None
    outline: outline.PlanOutline
    revisions: list[RevisionLine]


class Created(Schema):
    id: int


class ArchiveExperiment(Schema):
    archived: bool


class PeakBody(Schema):
    """An expected peak, along the load axis (users, or arrivals per second) or in steps per second."""

    amount: float | None = Field(gt=0, le=MOST_PEAK)
    told_in: PeakIn = "load"


class RestoreBody(Schema):
    revision: int


@router.get("/experiments", response=list[ExperimentLine])
def list_experiments(request: HttpRequest, archived: bool = False) -> list[ExperimentLine]:
    """All experiments, the last changed first, each with its last run: those in use or the archived ones."""
    in_force = Revision.objects.filter(experiment=OuterRef("pk"), number=OuterRef("position"))
    last_run = Run.objects.there().filter(revision__experiment=OuterRef("pk")).order_by("-pk")
    last_series = Series.objects.filter(experiment=OuterRef("pk")).order_by("-pk")
    experiments = (
        Experiment.objects.filter(archived_at__isnull=not archived)
        .order_by("-changed_at")
        .select_related("system")
        .annotate(
            named=Subquery(in_force.values("references")),
            said=Subquery(in_force.values("document")),
            last_run_id=Subquery(last_run.values("pk")[:1]),
            last_run_simulated=Subquery(last_run.values("simulated")[:1]),
            last_run_seeded=Subquery(last_run.values("seeded")[:1]),
            last_run_state=Subquery(last_run.values("state")[:1]),
            last_run_verdict=Subquery(last_run.values("verdict")[:1]),
            series_id=Subquery(last_series.values("pk")[:1]),
            series_sentence=Subquery(last_series.values("sentence")[:1]),
            series_state=Subquery(last_series.values("state")[:1]),
            series_seeded=Subquery(last_series.values("seeded")[:1]),
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
def save_experiment(request: HttpRequest, experiment_id: int, body: DraftBody) -> ExperimentDetail:
    """Save the document's text, ``{"source": …}``, as a new revision."""
    experiment, source = get_object_or_404(Experiment, pk=experiment_id), body.document.get("source")
    if not isinstance(source, str) or set(body.document) != {"source"}:
        raise PlanError([Problem("document", "the text of the plan is missing.", "Send it as 'source'.")])
    rules.revise(actor_of(request), experiment, source, body)
    return _detail(Experiment.objects.get(pk=experiment_id))


@router.post("/experiments/{experiment_id}/undo", response=ExperimentDetail)
def undo_experiment(request: HttpRequest, experiment_id: int, body: StepBody) -> ExperimentDetail:
    """The revision before becomes the one in force."""
    return _detail(rules.drafts.undo(actor_of(request), get_object_or_404(Experiment, pk=experiment_id), body.base))


@router.post("/experiments/{experiment_id}/redo", response=ExperimentDetail)
def redo_experiment(request: HttpRequest, experiment_id: int, body: StepBody) -> ExperimentDetail:
    """Take the last undo back."""
    return _detail(rules.drafts.redo(actor_of(request), get_object_or_404(Experiment, pk=experiment_id), body.base))


@router.post("/experiments/{experiment_id}/duplicate", response={201: Created})
def duplicate_experiment(request: HttpRequest, experiment_id: int) -> Status[Created]:
    """A copy with another name, without the runs."""
    experiment = get_object_or_404(Experiment, pk=experiment_id)
    return Status(201, Created(id=rules.drafts.duplicate(actor_of(request), experiment).pk))


@router.post("/experiments/{experiment_id}/archive", response=ExperimentDetail)
def archive_experiment(request: HttpRequest, experiment_id: int, body: ArchiveExperiment) -> ExperimentDetail:
    """Put an experiment out of the way, or bring it back; its runs stay where they are."""
    rules.drafts.shelve(actor_of(request), get_object_or_404(Experiment, pk=experiment_id), body.archived)
    return _detail(Experiment.objects.get(pk=experiment_id))


@router.put("/experiments/{experiment_id}/peak", response={204: None})
def expect_peak(request: HttpRequest, experiment_id: int, body: PeakBody) -> Status[None]:
    """The load that is expected at the most: its runs say how much room there is above it. Null takes it off."""
    rules.expect(actor_of(request), get_object_or_404(Experiment, pk=experiment_id), body.amount, body.told_in)
    return Status(204, None)


@router.get("/experiments/{experiment_id}/experiment.yaml")
def download_experiment(request: HttpRequest, experiment_id: int) -> HttpResponse:
    """The document as its author wrote it."""
    text = get_object_or_404(Experiment, pk=experiment_id).current.text
    headers = {"Content-Disposition": 'attachment; filename="experiment.yaml"'}
    return HttpResponse(text, content_type="application/yaml", headers=headers)


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
        plan = document.stored(experiment.said)  # type: ignore[attr-defined]
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
        tags=list(plan.tags) if plan else [],
        archived=experiment.archived_at is not None,
        own_journeys=rules.own_journeys(experiment.named, experiment.said),  # type: ignore[attr-defined]
        revision=experiment.position,
        changed_at=experiment.changed_at,
        last_run_id=experiment.last_run_id,  # type: ignore[attr-defined]
        last_run_simulated=experiment.last_run_simulated,  # type: ignore[attr-defined]
        last_run_seeded=experiment.last_run_seeded,  # type: ignore[attr-defined]
        last_run_state=experiment.last_run_state,  # type: ignore[attr-defined]
        last_run_verdict=experiment.last_run_verdict,  # type: ignore[attr-defined]
        turns=plan.turns.turns if plan and plan.turns else 0,
        series_id=experiment.series_id,  # type: ignore[attr-defined]
        series_sentence=experiment.series_sentence,  # type: ignore[attr-defined]
        series_state=experiment.series_state,  # type: ignore[attr-defined]
        series_seeded=experiment.series_seeded,  # type: ignore[attr-defined]
    )


def _detail(experiment: Experiment) -> ExperimentDetail:
    revisions: QuerySet[Revision] = experiment.revisions.select_related("author")
    lines = list(revisions.defer("document", "source"))
    current = experiment.current
    return ExperimentDetail(
        id=experiment.pk,
        name=experiment.name,
        archived=experiment.archived_at is not None,
        document={"source": current.text},
        revision=current.pk,
        number=current.number,
        can_undo=experiment.can_undo,
        can_redo=experiment.can_redo,
        system_id=experiment.system_id,
        outline=outline.of(current.plan),
        revisions=[
            RevisionLine(
                number=r.number,
                created_at=r.created_at,
                author=r.author.get_username() if r.author else None,
                changes=r.changes,
                in_force=r.number == current.number,
                undone=r.aside or r.number > current.number,
            )
            for r in lines
        ],
    )
