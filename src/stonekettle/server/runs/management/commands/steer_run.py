"""Ask something of a run's load, and tell what became of it."""

from __future__ import annotations

import time
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from stonekettle.engine.signals import Verb
from stonekettle.plan.quantities import parse_duration
from stonekettle.server.access.roles import Actor
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import steering
from stonekettle.server.runs.models import Run

LOOK_S = 0.05
LIMIT_S = 10.0


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("run", type=int)
        parser.add_argument("verb", choices=[verb.value for verb in Verb])
        parser.add_argument("amount", type=float, nargs="?")
        parser.add_argument("--group", default="")
        parser.add_argument("--region", default="")
        parser.add_argument("--within", default="0 s")
        parser.add_argument("--why", default="")
        parser.add_argument("--who", required=True)

    def handle(self, *args: Any, **options: Any) -> None:
        run = Run.objects.filter(pk=options["run"]).first()
        if run is None:
            raise CommandError(f"There is no run {options['run']}.")
        try:
            wish = steering.wish(
                Actor.itself(options["who"]),
                run,
                Verb(options["verb"]),
                why=options["why"],
                group=options["group"],
                region=options["region"],
                amount=options["amount"],
                over_s=parse_duration(options["within"]),
            )
        except (Conflict, ValueError) as error:
            raise CommandError(str(error)) from error
        give_up = time.monotonic() + LIMIT_S
        while wish.accepted is None and time.monotonic() < give_up:
            time.sleep(LOOK_S)
            wish.refresh_from_db()
        if wish.accepted is None:
            raise CommandError(f"The run did not answer within {LIMIT_S:.0f} s.")
        if not wish.accepted:
            raise CommandError(wish.answer)
        self.stdout.write(wish.answer)
