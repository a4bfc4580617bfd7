"""Brings the database up to date, then seeds the example system, its experiments with their season of runs, a feed,
a journey, a capacity plan and a user to sign in as.

Migrations and seeding share one process, since starting it is most of what they take. What is there
already is left alone.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser
from django.utils import timezone

from stonekettle.server.access import people
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.capacity import demo as capacity
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import demo, played, season
from stonekettle.server.runs.upgrading import bring_up_to_date
from stonekettle.server.series import season as turns

PLAYED = (("Quick look", 1.9),)
"""Experiments played at the first start, so many days ago."""
CHANGED = "(changed)"
"""Stands in the file for a password that opens nothing any more."""


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--sign-in", type=Path, required=True, help="file with the user's name and password")
        parser.add_argument("--no-demo", action="store_true", help="the user only")

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        bring_up_to_date(self.stdout.write)
        name, password = options["sign_in"].read_text().split()
        user = User.objects.filter(username=name).first() or people.create(name, password, Role.ADMINISTRATOR)
        if not (user.is_active and user.check_password(password)):
            options["sign_in"].write_text(f"{name} {CHANGED}\n")
        actor = Actor("the first start", Role.ADMINISTRATOR, user)
        if options["no_demo"] or Experiment.objects.exists():
            return
        made = demo.describe(actor)
        self.stdout.write("Bringing in the season of the tram company, and playing a run in virtual time …")
        season.seed(actor, made)
        turns.seed(made)
        festival = next(one for one in made if one.name == capacity.EXPERIMENT)
        capacity.describe(actor, festival, timezone.localdate())
        for number, (name, days) in enumerate(PLAYED):
            experiment = next(one for one in made if one.name == name)
            played.play(experiment, played.days_ago(days), seed=11 + number)
