"""People: what they may, and who is invited."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from stonekettle.server.access.roles import Role


class Person(models.Model):
    """What a user may; who ``must_change`` their password can do nothing else before."""

    user = models.OneToOneField(settings.AUTH_USER_MODEL, models.CASCADE, related_name="person")
    role = models.CharField(max_length=20, choices=Role.choices, default=Role.READER)
    must_change = models.BooleanField(default=False)

    def __str__(self) -> str:
        return f"{self.user} ({self.role})"


class Invitation(models.Model):
    """A link by which somebody becomes a person here, once, until it expires. The link itself is shown once and not
    kept: ``digest`` is the hash of its token."""

    digest = models.CharField(max_length=64, unique=True)
    note = models.CharField(max_length=200)
    role = models.CharField(max_length=20, choices=Role.choices)
    invited_by = models.CharField(max_length=150)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField()

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return f"invitation of {self.note}"
