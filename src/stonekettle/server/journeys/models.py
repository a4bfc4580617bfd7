"""Journeys and their revisions."""

from __future__ import annotations

from django.db import models

from stonekettle.plan.checking import validated
from stonekettle.plan.journey import JourneyDraft
from stonekettle.server.drafts import Draft, DraftRevision
from stonekettle.server.sealed import SealedTextField


class Journey(Draft):
    """A journey with its document, and how its last trial went: of which revision, when, and the
    reason if it failed (empty: it passed)."""

    tried_position = models.PositiveIntegerField(null=True)
    tried_at = models.DateTimeField(null=True)
    trial_reason = models.TextField(default="")

    @property
    def draft(self) -> JourneyDraft:
        return validated(JourneyDraft, self.current.document)

    @property
    def has_passed(self) -> bool:
        """Whether it passed a trial as it is now."""
        return self.tried_position == self.position and not self.trial_reason


class JourneyRevision(DraftRevision):
    """One state of a journey's document, secrets included."""

    journey = models.ForeignKey(Journey, models.CASCADE, related_name="revisions")

    class Meta(DraftRevision.Meta):
        constraints = (models.UniqueConstraint(fields=["journey", "number"], name="one_journey_revision_per_number"),)

    def __str__(self) -> str:
        return f"{self.journey} r{self.number}"


class RecordedAnswer(models.Model):
    """What a recording holds as the answer to a step: found by the step's number in it."""

    journey = models.ForeignKey(Journey, models.CASCADE, related_name="recorded")
    number = models.PositiveIntegerField()
    status = models.PositiveIntegerField()
    content_type = models.CharField(max_length=200)
    body = SealedTextField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=["journey", "number"], name="one_answer_per_number"),)

    def __str__(self) -> str:
        return f"{self.journey} answer {self.number}"
