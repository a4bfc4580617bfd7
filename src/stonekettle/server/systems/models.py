"""Systems, their revisions, and the metrics pushed for them."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from stonekettle.plan import system_document
from stonekettle.plan.system import System as Description


class System(models.Model):
    """A system by name. ``position`` is the revision in force: undo moves it back, redo forth.

    ``pins`` are the metrics its plates show beside the resources. ``token_digest`` belongs to the
    token with which metrics are pushed; the token itself is shown once and not kept.
    """

    name = models.CharField(max_length=80, unique=True)
    position = models.PositiveIntegerField(default=1)
    archived_at = models.DateTimeField(null=True)
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)
    pins: models.JSONField[Any, Any] = models.JSONField(default=list)
    token_digest = models.CharField(max_length=64, default="")
    token_hint = models.CharField(max_length=8, default="")

    class Meta:
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name

    @property
    def current(self) -> SystemRevision:
        return self.revisions.get(number=self.position)

    @property
    def description(self) -> Description:
        return system_document.from_document(self.current.document)


class SystemRevision(models.Model):
    """One state of a system's document, secrets included."""

    system = models.ForeignKey(System, models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    document: models.JSONField[Any, Any] = models.JSONField()
    author = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["system", "number"], name="one_system_revision_per_number"),)
        ordering = ("-number",)

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
