"""Doing one job: the kinds there are, progress, and what becomes of faults."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from django.core.exceptions import ObjectDoesNotExist
from django.utils import timezone
from django.utils.module_loading import import_string
from pydantic import TypeAdapter

from stonekettle.server import problems
from stonekettle.server.access.roles import Actor
from stonekettle.server.jobs import rules
from stonekettle.server.jobs.models import Job

TELL_EVERY_S = 0.25
KINDS = {
    "trial": "stonekettle.server.journeys.work.trial",
    "look at journey file": "stonekettle.server.journeys.work.look",
    "import journey file": "stonekettle.server.journeys.work.bring_in",
    "look at feed file": "stonekettle.server.feeds.work.look",
    "keep feed file": "stonekettle.server.feeds.work.keep",
    "look at metrics file": "stonekettle.server.runs.work.look",
    "add metrics file": "stonekettle.server.runs.work.add",
    "remove metrics file": "stonekettle.server.runs.work.remove",
    "leave out": "stonekettle.server.runs.work.leave_out",
    "count again": "stonekettle.server.runs.work.count_again",
    "rehearsal": "stonekettle.server.runs.work.rehearse",
    "longer levels": "stonekettle.server.runs.work.lengthen",
    "export": "stonekettle.server.runs.work.export",
}
"""Each takes a :class:`Work` and gives an outcome."""
SENDING = ("trial",)
"""Kinds that send requests to a system: a halt ends them."""


@dataclass
class Work:
    """What a kind of job works on."""

    job_id: int
    given: Mapping[str, Any]
    path: Path | None
    actor: Actor
    _told_at: float = 0.0

    @property
    def content(self) -> bytes:
        """The bytes of its file."""
        return self.path.read_bytes() if self.path else b""

    def tell(self, text: str, done: int = 0, total: int = 0) -> None:
        """Say what is being done, for whoever waits."""
        now = time.monotonic()
        if now - self._told_at >= TELL_EVERY_S or done == total:
            self._told_at = now
            Job.objects.filter(pk=self.job_id).update(text=text[:300], done=done, total=total, seen_at=timezone.now())


def perform(job_id: int) -> None:
    """Do the job, here and now. Every failure becomes its problem."""
    job = Job.objects.select_related("requested_by").get(pk=job_id)
    if not Job.objects.filter(pk=job_id, state=Job.State.WAITING).update(state=Job.State.WORKING, text="Beginning"):
        return  # cancelled while it waited
    path = rules.path_of(job)
    try:
        work = Work(job_id, job.given, path, Actor.of(job.requested_by, job.address))
        outcome = import_string(KINDS[job.kind])(work)
    except Exception as error:
        rules.refuse(job_id, _problem_of(error, job))
    else:
        plain = json.loads(TypeAdapter(type(outcome)).dump_json(outcome))
        Job.objects.filter(pk=job_id, state=Job.State.WORKING).update(state=Job.State.DONE, outcome=plain)
    finally:
        if path is not None:
            path.unlink(missing_ok=True)


def _problem_of(error: Exception, job: Job) -> dict[str, Any]:
    if isinstance(error, MemoryError):
        return out_of_memory()
    if isinstance(error, ObjectDoesNotExist):
        return rules.problem(404, "Not found", "What this was for is gone.")
    return problems.expected(error) or problems.fault(str(job), error)


def out_of_memory() -> dict[str, Any]:
    detail = "It unfolds to more than may be held in memory at once. Split it, or leave out what is not needed."
    return rules.problem(422, "Too large", detail)
