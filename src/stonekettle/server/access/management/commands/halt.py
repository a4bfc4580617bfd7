"""End all load everywhere and keep it off, or lift that."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from stonekettle.server.access import halting
from stonekettle.server.access.roles import Actor


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--who", required=True)
        parser.add_argument("--why", default="")
        parser.add_argument("--lift", action="store_true")

    def handle(self, *args: Any, **options: Any) -> None:
        actor = Actor.itself(options["who"])
        if options["lift"]:
            halting.lift(actor)
            self.stdout.write("Lifted: load may be made again.")
        else:
            found = halting.halt(actor, options["why"])
            self.stdout.write(f"{found.words} Lift it with:  ./kettle halt --lift")
