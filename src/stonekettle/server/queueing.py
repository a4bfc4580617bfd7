"""Work asked of the workers by its name: who asks need not know who does it."""

from __future__ import annotations

from procrastinate.contrib.django import app

CONDUCT_RUN = "stonekettle.server.runs.tasks.conduct_run"
GENERATE = "stonekettle.server.runs.tasks.generate"
DO_JOB = "stonekettle.server.jobs.tasks.do"


def ask(task: str, queue: str, **arguments: int) -> None:
    """Put a task into a queue, within the transaction there is."""
    app.configure_task(task, queue=queue).defer(**arguments)
