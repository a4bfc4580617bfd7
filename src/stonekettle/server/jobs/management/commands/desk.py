"""The worker that does jobs; what they are forked from is loaded before the first one comes."""

from __future__ import annotations

from multiprocessing import forkserver
from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand

from stonekettle.server.jobs import tasks  # noqa: F401  (says what to load)

AT_ONCE = 3


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        forkserver.ensure_running()
        call_command(
            "procrastinate", "worker", "--name", "desk", "--queues", "desk", "--concurrency", str(AT_ONCE),
            "--shutdown-graceful-timeout", "3", "--delete-jobs", "successful",
        )  # fmt: skip
