"""Changes of a system that were asked for while a run loaded it."""

from __future__ import annotations

from typing import Any

from django.db import models

from stonekettle.server.runs.models import Run


class SystemChange(models.Model):
    """A change that somebody asked for in a run, by the name it has in the system's description, with the ``values``
    that were said. Moments are seconds after the start of the load: when it was asked for, ``accepted_s`` by whoever
    changes the system, and ``ready_s`` (None also where nothing tells that). ``told`` is what was answered meanwhile:
    moments, how many were ready, of how many. Of many that were started at once ``each`` is its number, when it was
    ready (s, None: it was not) and what it answered last; ``probing`` tells how they were asked after."""

    class State(models.TextChoices):
        ASKED = "asked"
        ACCEPTED = "accepted"
        READY = "ready"
        FAILED = "failed"

    run = models.ForeignKey(Run, models.CASCADE, related_name="changes")
    name = models.CharField(max_length=80)
    values: models.JSONField[Any, Any] = models.JSONField(default=dict)
    who = models.CharField(max_length=150)
    state = models.CharField(max_length=10, choices=State.choices, default=State.ASKED)
    asked_s = models.FloatField()
    accepted_s = models.FloatField(null=True)
    ready_s = models.FloatField(null=True)
    told: models.JSONField[Any, Any] = models.JSONField(default=list)
    each: models.JSONField[Any, Any] = models.JSONField(default=list)
    probing: models.JSONField[Any, Any] = models.JSONField(default=dict)
    fault = models.TextField(default="")

    class Meta:
        ordering = ("asked_s", "pk")

    def __str__(self) -> str:
        return f"{self.words} (run {self.run_id})"

    @property
    def words(self) -> str:
        """What was asked for: "Set instances: planner, 3"."""
        operations = self.run.plan.system.operations
        known = {change.name: change for change in operations.changes} if operations else {}
        return known[self.name].words(self.values) if self.name in known else self.name

    @property
    def is_over(self) -> bool:
        return self.state in (self.State.READY, self.State.FAILED)
