"""Plays the demo's season anew and writes its files, in a throw-away database: ``./kettle season`` gives it one."""

from __future__ import annotations

import time
from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand

from stonekettle.server.access.roles import Actor
from stonekettle.server.runs import demo, season
from stonekettle.server.series import season as turns


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        experiments = demo.describe(Actor.itself("the demo's season"))
        for name, part in (("runs", season), ("turns", turns)):
            began = time.monotonic()
            size = part.build(experiments, self.stdout.write)
            self.stdout.write(f"The {name}: {size / 1024:.0f} kB, {time.monotonic() - began:.0f} s")
