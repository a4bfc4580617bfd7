"""The demo's system, its experiments, a feed and a journey, as they come with the product."""

from __future__ import annotations

import re
from typing import cast

from django.conf import settings

from stonekettle.plan import document, journey_document
from stonekettle.plan.checking import parse
from stonekettle.server.access.roles import Actor
from stonekettle.server.drafts import Document
from stonekettle.server.experiments import rules
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.feeds import rules as feeds
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.systems import rules as systems

WITH_OPERATIONS = "candidates.yaml"
EXAMPLES = ("quick.yaml", "quillport.yaml", WITH_OPERATIONS, "weekly.yaml", "scaling.yaml")
PEAKS = {"quick.yaml": 120.0, "quillport.yaml": 480.0}
"""Users that are expected at the most."""
JOURNEY = "day-ticket.yaml"
FEED = "riders.yaml"
_SYSTEM_BLOCK = re.compile(r"^system:\n(?:[ \t]+.*\n|\n)+", re.MULTILINE)


def describe(actor: Actor) -> list[Experiment]:
    """Make all of it; the experiments."""
    described = document.to_document(document.read(_example(WITH_OPERATIONS)))["system"]
    systems.create(actor, described)
    feeds.drafts.create(actor, cast(Document, parse(_example(FEED))))
    journey = journey_document.read(_example(JOURNEY))
    journeys.drafts.create(actor, journey_document.to_document(journey))
    made = []
    for name in EXAMPLES:
        source = _SYSTEM_BLOCK.sub(f"system: {described['name']}\n\n", _example(name), count=1)
        made.append(rules.create(actor, source))
        if name in PEAKS:
            rules.expect(actor, made[-1], PEAKS[name], "load")
    return made


def _example(name: str) -> str:
    return str((settings.ROOT / "examples" / name).read_text())
