"""The worker's end: each job in a process of its own, with bounds on its time and memory.

The process is forked from one that has everything loaded, so that it begins at once; whatever a file does
to it ends with it.
"""

from __future__ import annotations

import multiprocessing
import os
import resource
import signal
import time
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import Any

from django.db import close_old_connections, connections
from django.utils import timezone
from procrastinate.contrib.django import app

from stonekettle.server.access import halting
from stonekettle.server.jobs import rules, work
from stonekettle.server.jobs.models import Job
from stonekettle.server.jobs.rules import problem

LIMIT_S = 180.0
MEMORY = 1_200_000_000
"""So much more than it begins with may a job's process map."""
MEMORY_OF = {"rehearsal": 4_000_000_000, "longer levels": 4_000_000_000, "export": 4_000_000_000}
"""More for what reads no file of anybody, and keeps its own bound on what it does."""
LOOK_S = 0.15
_context = multiprocessing.get_context("forkserver")
_context.set_forkserver_preload(["stonekettle.server.jobs.loaded"])


@app.task(queue="desk")
def do(job_id: int) -> None:
    """Have a job done, and end it where it takes too much."""
    memory = MEMORY_OF.get(Job.objects.get(pk=job_id).kind, MEMORY)
    process = _context.Process(target=_in_bounds, args=(job_id, memory), daemon=True)
    process.start()
    try:
        _watch(job_id, process)
    finally:
        if process.is_alive():
            process.kill()
        process.join()
    job = Job.objects.get(pk=job_id)
    if not job.is_over:
        rules.refuse(job_id, _why(process.exitcode or 0))
    if path := rules.path_of(job):
        path.unlink(missing_ok=True)


@app.periodic(cron="23 * * * *")
@app.task(queue="desk", queueing_lock="forget_old_jobs")
def forget_old_jobs(timestamp: int) -> None:
    rules.forget_old()


def _why(code: int) -> dict[str, Any]:
    """Why a process ended that could not say so itself, by its exit code."""
    if code == -signal.SIGXCPU:
        return _too_long()
    if code < 0:
        return work.out_of_memory()  # killed by the machine, or by its own failing allocation
    return problem(503, "Not finished", "It ended unexpectedly, as when the database is away. Try again in a moment.")


def _too_long() -> dict[str, Any]:
    return problem(422, "Took too long", f"It took more than {LIMIT_S:.0f} s and was ended. Nothing was changed.")


def _watch(job_id: int, process: BaseProcess) -> None:
    """Until it has ended, is not wanted any more, or has had its time."""
    give_up = time.monotonic() + LIMIT_S
    seen = 0.0
    sends = Job.objects.filter(pk=job_id, kind__in=work.SENDING).exists()
    while process.is_alive():
        process.join(LOOK_S)
        if time.monotonic() > give_up:
            rules.refuse(job_id, _too_long())
            return
        if time.monotonic() - seen >= 1.0:
            seen = time.monotonic()
            Job.objects.filter(pk=job_id).update(seen_at=timezone.now())
        if Job.objects.filter(pk=job_id, state=Job.State.CANCELLED).exists():
            return
        halt = halting.in_force() if sends else None
        if halt is not None:
            rules.refuse(job_id, problem(409, "Not possible now", halt.words))
            return
    close_old_connections()


def _in_bounds(job_id: int, memory: int) -> None:
    """In the process of its own."""
    connections.close_all()
    mapped = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (mapped + memory, mapped + memory))
    resource.setrlimit(resource.RLIMIT_CPU, (int(LIMIT_S), int(LIMIT_S) + 5))
    os.nice(5)
    work.perform(job_id)
