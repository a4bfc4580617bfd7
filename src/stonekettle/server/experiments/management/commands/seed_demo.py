"""Brings the database up to date, then seeds the example system, its experiments, a feed, a journey
and a user to sign in as.

Migrations and seeding share one process, since starting it is most of what they take. What is there
already is left alone.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any, cast

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser

from stonekettle.plan import document, journey_document
from stonekettle.plan.checking import parse
from stonekettle.server.access import people
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.drafts import Document
from stonekettle.server.experiments import rules
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.feeds import rules as feeds
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.runs import played
from stonekettle.server.runs.upgrading import bring_up_to_date
from stonekettle.server.systems import rules as systems

EXAMPLES = ("quick.yaml", "quillport.yaml")
PLAYED = (("Quick look", 9.2), ("Harbour festival", 8.1), ("Quick look", 1.9))
"""Experiments played at the first start, so many days ago."""
JOURNEY = "day-ticket.yaml"
FEED = "riders.yaml"
CHANGED = "(changed)"
"""Stands in the file for a password that opens nothing any more."""
_SYSTEM_BLOCK = re.compile(r"^system:\n(?:[ \t]+.*\n|\n)+", re.MULTILINE)


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
        sources = [_example(name) for name in EXAMPLES]
        described = document.to_document(document.read(sources[-1]))["system"]
        systems.create(actor, described)
        feeds.drafts.create(actor, cast(Document, parse(_example(FEED))))
        journey = journey_document.read(_example(JOURNEY))
        journeys.drafts.create(actor, journey_document.to_document(journey))
        made = [
            rules.create(actor, _SYSTEM_BLOCK.sub(f"system: {described['name']}\n\n", source, count=1))
            for source in sources
        ]
        self.stdout.write("Playing three runs in virtual time, to look at …")
        for number, (name, days) in enumerate(PLAYED):
            experiment = next(one for one in made if one.name == name)
            played.play(experiment, played.days_ago(days), seed=11 + number)


def _example(name: str) -> str:
    return str((settings.ROOT / "examples" / name).read_text())
