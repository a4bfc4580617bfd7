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


class PersonalToken(models.Model):
    """A token of somebody's: who shows it may what its ``role`` and its owner may. The token itself is not kept:
    ``digest`` is its hash."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=80)
    role = models.CharField(max_length=20, choices=Role.choices)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField()
    used_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ("pk",)
        constraints = (models.UniqueConstraint(fields=["user", "name"], name="one_token_per_name"),)

    def __str__(self) -> str:
        return f"token {self.name} of {self.user}"


class Identity(models.Model):
    """Somebody as a service of OpenID Connect knows them."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="identities")
    issuer = models.CharField(max_length=300)
    subject = models.CharField(max_length=200)
    connected_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["issuer", "subject"], name="one_person_per_identity"),)

    def __str__(self) -> str:
        return f"{self.user} at {self.issuer}"


class Halt(models.Model):
    """A halt of all load; in force until it is lifted."""

    by = models.CharField(max_length=150)
    why = models.CharField(max_length=300, default="")
    at = models.DateTimeField(auto_now_add=True)
    lifted_at = models.DateTimeField(null=True)
    lifted_by = models.CharField(max_length=150, default="")

    class Meta:
        constraints = (
            models.UniqueConstraint(
                fields=["lifted_at"],
                nulls_distinct=False,
                condition=models.Q(lifted_at=None),
                name="one_halt_at_a_time",
            ),
        )

    def __str__(self) -> str:
        return f"halt by {self.by}"

    @property
    def words(self) -> str:
        """That there is one, as a sentence."""
        why = f": {self.why.rstrip('.')}" if self.why else ""
        return f"All load was halted by {self.by}{why}."
