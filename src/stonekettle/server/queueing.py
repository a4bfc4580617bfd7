"""Work asked of the workers by its name: who asks need not know who does it."""

from __future__ import annotations

from django.db import transaction
from procrastinate.contrib.django import app
from procrastinate.contrib.django.django_connector import DjangoConnector

CONDUCT_RUN = "stonekettle.server.runs.tasks.conduct_run"
GENERATE = "stonekettle.server.runs.tasks.generate"
TAKE_TURN = "stonekettle.server.series.tasks.take_turn"
MAKE_CHANGE = "stonekettle.server.changes.tasks.make"
DO_JOB = "stonekettle.server.jobs.tasks.do"


def ask(task: str, queue: str, **arguments: int) -> None:
    """Put a task into a queue, within the transaction there is. A worker's own connection knows nothing of that: there
    once it is committed, since another worker may be faster."""
    job = app.configure_task(task, queue=queue)
    if isinstance(app.connector, DjangoConnector):
        job.defer(**arguments)
    else:
        transaction.on_commit(lambda: job.defer(**arguments))
