"""What may happen to a capacity plan."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from stonekettle.plan import capacity_document
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.access.roles import Actor
from stonekettle.server.capacity.models import CapacityPlan
from stonekettle.server.drafts import Document, Drafts
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.systems.models import System

NEW_NAME = "New plan"
AHEAD_DAYS = 365
USUAL_PEAK = 100


def checked(document: Document, before: Document | None) -> dict[str, Any]:
    """A valid document. Raises :class:`PlanError` with every problem."""
    return capacity_document.to_document(capacity_document.from_document(document))


drafts = Drafts(CapacityPlan, "capacity plan", checked)


def create(actor: Actor, document: Document) -> CapacityPlan:
    """A plan from a document. Raises :class:`PlanError`."""
    return drafts.create(actor, document)


def begin(actor: Actor, system: System, today: date) -> CapacityPlan:
    """A plan for a system to fill in: a year ahead, for the peak that is expected of it."""
    if system.archived_at is not None:
        message = f"{system.name} is archived."
        raise PlanError([Problem("system", message, "Bring it back, or choose another one.")])
    known = Experiment.objects.filter(system=system, peak__isnull=False, peak_in="load", archived_at=None)
    peak = known.order_by("-changed_at").values_list("peak", flat=True).first()
    on = today + timedelta(days=AHEAD_DAYS)
    document = {
        "name": drafts.free_name(f"{system.name} in {on.year}"[:70]),
        "system": system.name,
        "peaks": [{"on": on.isoformat(), "load": peak or USUAL_PEAK}],
    }
    return create(actor, document)
