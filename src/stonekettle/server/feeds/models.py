"""Feeds, their revisions, and the rows of uploaded files."""

from __future__ import annotations

import hashlib

from django.db import models

from stonekettle.plan.checking import validated
from stonekettle.plan.feed import FeedDraft, Rows
from stonekettle.server.drafts import Draft, DraftRevision
from stonekettle.server.sealed import SealedTextField


class Feed(Draft):
    """A feed with its document."""

    @property
    def draft(self) -> FeedDraft:
        return validated(FeedDraft, self.current.document)


class FeedRevision(DraftRevision):
    """One state of a feed's document."""

    feed = models.ForeignKey(Feed, models.CASCADE, related_name="revisions")

    class Meta(DraftRevision.Meta):
        constraints = (models.UniqueConstraint(fields=["feed", "number"], name="one_feed_revision_per_number"),)

    def __str__(self) -> str:
        return f"{self.feed} r{self.number}"


class FeedFile(models.Model):
    """Rows as CSV text (UTF-8, commas, a header), found by their SHA-256. They never
    change, so that a run keeps the rows it used."""

    digest = models.CharField(max_length=64, primary_key=True)
    rows = models.PositiveIntegerField()
    content = SealedTextField()
    created_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"{self.rows} rows {self.digest[:8]}"

    @classmethod
    def keep(cls, rows: Rows) -> str:
        """Keep the rows, unless they are kept already; returns their digest."""
        text = rows.text
        digest = hashlib.sha256(text.encode()).hexdigest()
        if not cls.objects.filter(pk=digest).exists():
            cls.objects.create(digest=digest, rows=len(rows), content=text)
        return digest

    @classmethod
    def text_of(cls, digest: str) -> str | None:
        return cls.objects.filter(pk=digest).values_list("content", flat=True).first()
