"""What a request that began a job is answered with."""

from __future__ import annotations

from ninja import Schema, Status

from stonekettle.server.jobs.models import Job


class JobStarted(Schema):
    """A job that was begun: how it stands is told at ``/api/jobs/{job}``."""

    job: int


def started(job: Job) -> Status[JobStarted]:
    return Status(202, JobStarted(job=job.pk))
