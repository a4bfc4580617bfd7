"""Systems, their revisions, and the metrics pushed for them."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import models

from stonekettle.plan import system_document
from stonekettle.plan.system import System as Description
from stonekettle.server.drafts import Draft, DraftRevision


class System(Draft):
    """A system with its document.

    ``pins`` are the metrics its plates show beside the resources. ``token_digest`` belongs to the
    token with which metrics are pushed; the token itself is shown once and not kept. Where there are ``runners``, only
    they and administrators run on it. Of its runs, requests, seconds and the runs themselves are kept for so many days
    after their end, always without.
    """

    pins: models.JSONField[Any, Any] = models.JSONField(default=list)
    token_digest = models.CharField(max_length=64, default="")
    token_hint = models.CharField(max_length=8, default="")
    runners: models.ManyToManyField[User, Any] = models.ManyToManyField(User, related_name="runs_on")
    keep_requests_days = models.PositiveIntegerField(null=True)
    keep_seconds_days = models.PositiveIntegerField(null=True)
    keep_runs_days = models.PositiveIntegerField(null=True)

    @property
    def description(self) -> Description:
        return system_document.stored(self.document)


class SystemRevision(DraftRevision):
    """One state of a system's document, secrets included."""

    system = models.ForeignKey(System, models.CASCADE, related_name="revisions")

    class Meta(DraftRevision.Meta):
        constraints = (models.UniqueConstraint(fields=["system", "number"], name="one_system_revision_per_number"),)

    def __str__(self) -> str:
        return f"{self.system} r{self.number}"


class Push(models.Model):
    """Metrics pushed at one moment by one instance of a service (times in s since the epoch).

    ``latest`` is the newest time stamp among its points, by the sender's clock.
    """

    system = models.ForeignKey(System, models.CASCADE, related_name="pushes")
    service = models.CharField(max_length=200)
    instance = models.CharField(max_length=200)
    received_at = models.FloatField()
    latest = models.FloatField()
    points: models.JSONField[Any, Any] = models.JSONField()

    class Meta:
        indexes = (models.Index(fields=["system", "received_at"]),)

    def __str__(self) -> str:
        return f"{self.service} {self.instance} at {self.received_at:.0f}"
