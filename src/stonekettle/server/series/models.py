"""Candidates that take turns: a series is one go through an experiment's blocks, each of its turns a run."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from stonekettle.plan import document
from stonekettle.plan.candidates import Candidate, Candidates, Value
from stonekettle.plan.models import Plan
from stonekettle.server.experiments.models import Experiment, Revision
from stonekettle.server.runs.models import Run
from stonekettle.server.sealed import SealedJSONField


class Series(models.Model):
    """All turns of an experiment's candidates, in order.

    ``plan_document`` is the whole plan as it was when the series began. ``sentence`` is what the turns that are over
    tell. While a worker changes the system it is ``busy``, and ``seen_at`` its sign of life. One that was ``seeded``
    was played by the practice twin before it came with the product.
    """

    class State(models.TextChoices):
        GOING = "going"
        FINISHED = "finished"
        STOPPED = "stopped"
        FAILED = "failed"

    experiment = models.ForeignKey(Experiment, models.CASCADE, related_name="series")
    revision = models.ForeignKey(Revision, models.CASCADE, related_name="series")
    plan_document = SealedJSONField()
    requested_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    state = models.CharField(max_length=10, choices=State.choices, default=State.GOING)
    cause = models.TextField(default="")
    sentence = models.TextField(default="")
    stop_requested_by = models.CharField(max_length=150, default="")
    seeded = models.BooleanField(default=False)
    busy = models.BooleanField(default=False)
    seen_at = models.DateTimeField(null=True)
    waits_since = models.DateTimeField(null=True)
    begun_at = models.DateTimeField(auto_now_add=True)
    ended_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"series {self.pk} of {self.revision}"

    @property
    def plan(self) -> Plan:
        return document.stored(self.plan_document)

    @property
    def candidates(self) -> Candidates:
        found = self.plan.turns
        assert found is not None  # there is no series without
        return found

    @property
    def current(self) -> Turn | None:
        """The turn that is under way, or the next one; None once all are over."""
        return self.turns.filter(over=False).select_related("run").first()


class Turn(models.Model):
    """A candidate's turn in a block, with a value of the second factor ("" without one); ``run`` is what was measured.
    ``ready_after_s`` is how long it took to bring it under load, ``done`` what was done for that and after it. It is
    ``over`` once what ends it was done too."""

    series = models.ForeignKey(Series, models.CASCADE, related_name="turns")
    number = models.PositiveSmallIntegerField()
    block = models.PositiveSmallIntegerField()
    candidate = models.CharField(max_length=80)
    value = models.CharField(max_length=80, default="")
    run = models.OneToOneField(Run, models.SET_NULL, null=True, related_name="turn_taken")
    ready_after_s = models.FloatField(null=True)
    done: models.JSONField[Any, Any] = models.JSONField(default=list)
    over = models.BooleanField(default=False)

    class Meta:
        ordering = ("number",)
        constraints = (models.UniqueConstraint(fields=("series", "number"), name="one_turn_at_a_time"),)

    def __str__(self) -> str:
        return f"turn {self.number} of {self.series}"

    @property
    def words(self) -> str:
        """The candidate, and the value of the second factor."""
        return f"{self.candidate}, {self.value}" if self.value else self.candidate

    def parts(self, candidates: Candidates) -> tuple[Candidate, Value | None]:
        """What is brought under load for it."""
        candidate = next(one for one in candidates.each if one.name == self.candidate)
        value = next((one for one in candidates.values if one is not None and one.name == self.value), None)
        return candidate, value
