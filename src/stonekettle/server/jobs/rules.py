"""What may happen to a job."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from datetime import timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.utils import timezone
from django.utils.module_loading import import_string
from ninja.files import UploadedFile

from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server import queueing
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.jobs.models import Job
from stonekettle.server.problems import Conflict

MOST_WAITING = 12
"""So many unfinished jobs one person may have."""
MOST_UPLOADS = 200
"""So many files one person may upload in an hour."""
SILENCE = timedelta(seconds=15)
KEPT = timedelta(hours=12)
PIECE = 1_000_000
FOR_READERS = ("export",)
"""Kinds that change nothing; every other is for planners."""
PERFORM = "stonekettle.server.jobs.work.perform"
"""Where jobs are done at once, in the process that asks."""


def start(actor: Actor, kind: str, given: Mapping[str, Any], file: UploadedFile | None = None) -> Job:
    """Queue a job. The file goes to the spool piece by piece: it is never in memory as a whole. What it changes are
    acts of its own, for which whoever asked must still have the role then."""
    actor.check(Role.READER if kind in FOR_READERS else Role.PLANNER)
    unfinished = Job.objects.filter(requested_by=actor.user, state__in=(Job.State.WAITING, Job.State.WORKING))
    if unfinished.filter(seen_at__gt=timezone.now() - SILENCE).count() >= MOST_WAITING:
        raise Conflict(f"{MOST_WAITING} of your jobs are not finished yet. Wait for one, or cancel it.")
    if file is not None:
        _check_upload(actor, file)
    job = Job.objects.create(
        kind=kind,
        given={**given, "file_name": file.name or "" if file else ""},
        file=_spooled(file) if file else "",
        requested_by=actor.user,
        address=actor.address,
        text="Waiting for a free worker",
    )
    if settings.JOBS_AT_ONCE:
        import_string(PERFORM)(job.pk)
    else:
        queueing.ask(queueing.DO_JOB, "desk", job_id=job.pk)
    return job


def _check_upload(actor: Actor, file: UploadedFile) -> None:
    if (file.size or 0) > settings.LARGEST_FILE:
        most = f"{settings.LARGEST_FILE / 1e6:.0f} MB"
        raise PlanError([Problem("file", f"it is larger than {most}.", "Leave out what is not needed, or cut it.")])
    lately = Job.objects.filter(requested_by=actor.user, created_at__gt=timezone.now() - timedelta(hours=1))
    if lately.exclude(file="").count() >= MOST_UPLOADS:
        raise Conflict(f"You uploaded {MOST_UPLOADS} files within an hour. Wait before the next one.")


def cancel(job: Job) -> None:
    """End it, whatever it does; who does it sees that within a fifth of a second."""
    open_ones = Job.objects.filter(pk=job.pk, state__in=(Job.State.WAITING, Job.State.WORKING))
    open_ones.update(state=Job.State.CANCELLED, text="Cancelled")


def refuse(job_id: int, problem: Mapping[str, Any]) -> None:
    """It ends with a problem, unless it has ended already."""
    open_ones = Job.objects.filter(pk=job_id, state__in=(Job.State.WAITING, Job.State.WORKING))
    open_ones.update(state=Job.State.REFUSED, problem=dict(problem))


def problem(status: int, title: str, detail: str) -> dict[str, Any]:
    return {"status": status, "title": title, "detail": detail, "problems": []}


def looked_after(job: Job) -> Job:
    """The job as it is; one whose worker was lost has ended."""
    if job.state == Job.State.WORKING and timezone.now() - job.seen_at > SILENCE:
        lost = problem(503, "Not finished", "The worker that did this was lost. Nothing was changed; try again.")
        refuse(job.pk, lost)
        job.refresh_from_db()
    return job


def path_of(job: Job) -> Path | None:
    """Its file in the spool."""
    return Path(settings.SPOOL) / job.file if job.file else None


def forget_old() -> None:
    """Drop jobs of yesterday with what is left of their files."""
    for job in Job.objects.filter(created_at__lt=timezone.now() - KEPT):
        if path := path_of(job):
            path.unlink(missing_ok=True)
        job.delete()


def _spooled(file: UploadedFile) -> str:
    folder = Path(settings.SPOOL)
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    name = secrets.token_hex(16)
    with (folder / name).open("xb") as target:
        for piece in file.chunks(PIECE):
            target.write(piece)
    (folder / name).chmod(0o600)
    return name
