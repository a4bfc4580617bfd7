"""Jobs over HTTP: asked for elsewhere, watched and cancelled here."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status

from stonekettle.server.access.roles import actor_of
from stonekettle.server.feeds.work import FeedFileFound, FeedKept
from stonekettle.server.jobs import rules
from stonekettle.server.jobs.models import Job
from stonekettle.server.journeys.work import JourneyFileFound, JourneyMade, Tried
from stonekettle.server.runs.work import (
    ExportMade,
    FindingsMade,
    LongerTold,
    MetricsFileAdded,
    MetricsFileFound,
    MetricsFileRemoved,
    Rehearsal,
)

router = Router(tags=["jobs"])
Outcome = Annotated[
    Tried
    | JourneyFileFound
    | JourneyMade
    | FeedFileFound
    | FeedKept
    | MetricsFileFound
    | MetricsFileAdded
    | MetricsFileRemoved
    | ExportMade
    | FindingsMade
    | Rehearsal
    | LongerTold,
    Field(discriminator="kind"),
]


class FaultLine(Schema):
    path: str
    message: str
    mend: str


class JobProblem(Schema):
    """Why a job was refused, as any request is told."""

    status: int
    title: str
    detail: str
    problems: list[FaultLine]


class JobDetail(Schema):
    """How a job stands: what is being done, ``done`` of ``total`` (0: not to be told), and its end."""

    id: int
    state: Literal["waiting", "working", "done", "refused", "cancelled"]
    text: str
    done: int
    total: int
    outcome: Outcome | None
    problem: JobProblem | None


@router.get("/jobs/{job_id}", response=JobDetail)
def get_job(request: HttpRequest, job_id: int) -> dict[str, Any]:
    """A job one asked for oneself."""
    job = rules.looked_after(_job(request, job_id))
    parts = ("state", "text", "done", "total", "outcome", "problem")
    return {"id": job.pk, **{part: getattr(job, part) for part in parts}}


@router.delete("/jobs/{job_id}", response={204: None})
def cancel_job(request: HttpRequest, job_id: int) -> Status[None]:
    """End a job, whatever it does."""
    rules.cancel(_job(request, job_id))
    return Status(204, None)


def _job(request: HttpRequest, job_id: int) -> Job:
    return get_object_or_404(Job, pk=job_id, requested_by=actor_of(request).user)
