"""Capacity plans and their revisions."""

from __future__ import annotations

from typing import Any, cast

from django.db import models

from stonekettle.plan import capacity_document
from stonekettle.plan.capacity_document import CapacityPlan as Told
from stonekettle.server import references
from stonekettle.server.drafts import Document, Draft, DraftRevision
from stonekettle.server.experiments.models import Experiment


class CapacityPlan(Draft):
    """A capacity plan with its document."""

    @property
    def told(self) -> Told:
        return capacity_document.stored(self.document)

    @property
    def system_id(self) -> int | None:
        """The key of the system it is for; None where there is none of that name."""
        revision = cast(CapacityRevision, self.current)
        return next(iter(references.keys(revision.references, "system")), None)


class CapacityTrial(models.Model):
    """A trial of a plan: the experiment made for it, and what was foretold then (a :class:`trials.Foretold`)."""

    capacity_plan = models.ForeignKey(CapacityPlan, models.CASCADE, related_name="trials")
    experiment = models.ForeignKey(Experiment, models.CASCADE, related_name="+")
    foretold: models.JSONField[Any, Any] = models.JSONField()
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"trial of {self.capacity_plan} by {self.experiment}"


class CapacityRevision(DraftRevision):
    """One state of a plan's document; ``references`` tells what system it names."""

    capacity_plan = models.ForeignKey(CapacityPlan, models.CASCADE, related_name="revisions")
    references: models.JSONField[Any, Any] = models.JSONField(default=dict)

    class Meta(DraftRevision.Meta):
        constraints = (
            models.UniqueConstraint(fields=["capacity_plan", "number"], name="one_capacity_revision_per_number"),
        )

    def __str__(self) -> str:
        return f"{self.capacity_plan} r{self.number}"

    @property
    def today(self) -> Document:
        names, document = references.names_today(self.references), self.document
        return {**document, "system": names.get(("system", document["system"]), document["system"])}

    def refer(self, before: DraftRevision | None) -> None:
        known = before.references if isinstance(before, CapacityRevision) else None
        self.references = references.identities([("system", self.document["system"])], known)
