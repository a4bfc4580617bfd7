"""Hosts that load may go to."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.db import models
from django.utils import timezone
from django.utils.functional import cached_property

from stonekettle.engine.allowance import Ceilings, Permit
from stonekettle.plan.checking import validated
from stonekettle.plan.target import TargetTerms

PROOF_HOLDS = timedelta(hours=25)
"""Proven again each day; one that could not be for longer holds no more."""


class TargetQuerySet(models.QuerySet["Target"]):
    def there(self) -> TargetQuerySet:
        return self.filter(removed_at=None)


class Target(models.Model):
    """A host that load may go to, by the ``terms`` that somebody wrote (:class:`plan.target.TargetTerms`).

    An administrator ``entered`` it, up to ``ends_at``, or somebody proves that they control it by showing ``token``
    there. ``addresses`` are the numeric ones that its name was found to have; load goes to no others. ``fault`` says
    why the last proof failed, ``lost`` that the host itself took it back.
    """

    class Way(models.TextChoices):
        ENTERED = "entered"
        PROVEN = "proven"

    way = models.CharField(max_length=10, choices=Way.choices)
    terms: models.JSONField[Any, Any] = models.JSONField()
    token = models.CharField(max_length=60, default="")
    addresses: models.JSONField[list[str], list[str]] = models.JSONField(default=list)
    ends_at = models.DateTimeField(null=True)
    made_by = models.CharField(max_length=150)
    made_at = models.DateTimeField(auto_now_add=True)
    proven_at = models.DateTimeField(null=True)
    proven_by = models.CharField(max_length=40, default="")
    looked_at = models.DateTimeField(null=True)
    fault = models.CharField(max_length=500, default="")
    lost = models.BooleanField(default=False)
    removed_at = models.DateTimeField(null=True)

    objects = TargetQuerySet.as_manager()

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return f"target {self.name}"

    @cached_property
    def told(self) -> TargetTerms:
        """The terms as they were when this was read: asked often, and of every target at once."""
        return validated(TargetTerms, self.terms)

    @property
    def name(self) -> str:
        told = self.told
        return f"{told.host} port {told.ports}" if told.ports else told.host

    def why_not(self, now: datetime | None = None) -> str | None:
        """Why no load may go there now, as the rest of a sentence about it; None where it may."""
        now = now or timezone.now()
        if self.removed_at is not None:
            return "was removed from the targets"
        if self.way == self.Way.PROVEN:
            if self.proven_at is None:
                return "has not been proven yet"
            if self.lost:
                return f"is no longer proven: {self.fault}"
            if now - self.proven_at > PROOF_HOLDS:
                return f"could not be proven since {self.proven_at:%Y-%m-%d %H:%M} UTC: {self.fault}"
        if self.ends_at is not None and now >= self.ends_at:
            return f"was allowed until {self.ends_at:%Y-%m-%d %H:%M} UTC"
        if (until := self.told.closed_until(now)) is not None:
            return f"is closed to load until {until:%a %H:%M} ({self.told.time_zone})"
        return None

    def open_until(self, now: datetime | None = None) -> datetime | None:
        """When load must have ended, as far as that is known."""
        moments = (self.ends_at, self.told.closes_at(now or timezone.now()))
        return min((moment for moment in moments if moment is not None), default=None)

    def permit(self, *, named: bool = True) -> Permit:
        """What generators are told; users are counted where the plan has ``named`` it."""
        told, until = self.told, self.open_until()
        return Permit(
            number=self.pk,
            name=told.host,
            networks=tuple(self.addresses) if told.is_name else (told.host,),
            ports=told.port_ranges,
            scheme=told.scheme,
            ceilings=Ceilings(told.users if named else None, told.requests, told.connections),
            until=None if until is None else until.timestamp(),
        )
