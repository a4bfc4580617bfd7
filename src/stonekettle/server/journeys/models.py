"""Journeys and their revisions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from django.db import models

from stonekettle.plan.checking import validated
from stonekettle.plan.journey import JourneyDraft
from stonekettle.plan.references import Name
from stonekettle.server import references
from stonekettle.server.drafts import Document, Draft, DraftRevision
from stonekettle.server.sealed import SealedTextField


class Journey(Draft):
    """A journey with its document, and how its last trial went: of which revision, when, and the
    reason if it failed (empty: it passed)."""

    tried_position = models.PositiveIntegerField(null=True)
    tried_at = models.DateTimeField(null=True)
    trial_reason = models.TextField(default="")

    @property
    def named(self) -> references.Identities:
        """What its document in force names."""
        found: references.Identities = self.revisions.get(number=self.position).references
        return found

    @property
    def draft(self) -> JourneyDraft:
        return validated(JourneyDraft, self.document)

    @property
    def has_passed(self) -> bool:
        """Whether it passed a trial as it is now."""
        return self.tried_position == self.position and not self.trial_reason


class JourneyRevision(DraftRevision):
    """One state of a journey's document, secrets included; ``references`` tells what system and feeds it names."""

    journey = models.ForeignKey(Journey, models.CASCADE, related_name="revisions")
    references: models.JSONField[Any, Any] = models.JSONField(default=dict)

    class Meta(DraftRevision.Meta):
        constraints = (models.UniqueConstraint(fields=["journey", "number"], name="one_journey_revision_per_number"),)

    def __str__(self) -> str:
        return f"{self.journey} r{self.number}"

    @property
    def today(self) -> Document:
        names, document = references.names_today(self.references), self.document
        found = dict(document)
        if "system" in document:
            found["system"] = names.get(("system", document["system"]), document["system"])
        if "feeds" in document:
            found["feeds"] = [names.get(("feed", feed), feed) for feed in document["feeds"]]
        return found

    def refer(self, before: DraftRevision | None) -> None:
        known = before.references if isinstance(before, JourneyRevision) else None
        self.references = references.identities(names_in(self.document), known)


def names_in(document: Document) -> Iterator[Name]:
    """What a journey's document names."""
    if document.get("system"):
        yield "system", document["system"]
    yield from (("feed", feed) for feed in document.get("feeds", ()))


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
