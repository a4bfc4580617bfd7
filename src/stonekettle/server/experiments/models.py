"""Experiments and their revisions."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.references import renamed, renamed_parts
from stonekettle.server import references
from stonekettle.server.sealed import SealedJSONField, SealedTextField
from stonekettle.server.systems.models import System


class Experiment(models.Model):
    """A question and everything needed to run it; what it is stands in its newest revision.

    ``system`` is the system its document names, None when the document describes one itself.
    """

    name = models.CharField(max_length=80)
    system = models.ForeignKey(System, models.SET_NULL, null=True, related_name="experiments")
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)

    def __str__(self) -> str:
        return self.name

    @property
    def current(self) -> Revision:
        return self.revisions.latest("number")


class Revision(models.Model):
    """One state of an experiment: the text as its author wrote it, the checked document, and what is meant by the names
    in them."""

    experiment = models.ForeignKey(Experiment, models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    source = SealedTextField()
    document = SealedJSONField()
    references: models.JSONField[Any, Any] = models.JSONField(default=dict)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["experiment", "number"], name="one_revision_per_number"),)
        ordering = ("-number",)

    def __str__(self) -> str:
        return f"{self.experiment} r{self.number}"

    @property
    def text(self) -> str:
        """The text with the names of today; everything else in it is as it was written."""
        return renamed(self.source, references.names_today(self.references))

    @property
    def plan(self) -> Plan:
        """The plan as it was checked, with the names of today."""
        names = references.names_today(self.references)
        return document.stored(renamed_parts(self.document, names) if names else self.document)
