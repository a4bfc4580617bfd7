"""Stop runs under way as Stone Kettle itself is being stopped, and wait for their end."""

from __future__ import annotations

import time
from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from stonekettle.server.access.roles import Actor
from stonekettle.server.runs import rules
from stonekettle.server.runs.models import Run

LOOK_S = 0.3


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--within", type=float, required=True, help="seconds to wait")

    def handle(self, *args: Any, **options: Any) -> None:
        give_up = time.monotonic() + options["within"]
        under_way = list(Run.objects.in_progress())
        for run in under_way:
            rules.request_stop(Actor.itself(rules.OURSELVES), run)
        while under_way and time.monotonic() < give_up:
            time.sleep(LOOK_S)
            under_way = list(Run.objects.in_progress())
        for run in under_way:
            self.stdout.write(f"Run {run.pk} did not end within {options['within']:.0f} s and is cut.")
