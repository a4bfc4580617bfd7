"""Work that is too heavy, or takes too long, for the processes that answer requests."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from stonekettle.server.sealed import SealedJSONField


class Job(models.Model):
    """Something asked for: of a ``kind``, with what was ``given`` and perhaps a file (a name in the spool).

    ``text`` says what is being done, ``done`` of ``total`` (0: not to be told). It ends done with an
    ``outcome``, refused with a ``problem`` (as the API tells them), or cancelled. ``seen_at`` is the sign of
    life of whoever does it, ``address`` where it was asked for from.
    """

    class State(models.TextChoices):
        WAITING = "waiting"
        WORKING = "working"
        DONE = "done"
        REFUSED = "refused"
        CANCELLED = "cancelled"

    kind = models.CharField(max_length=40)
    given = SealedJSONField()
    file = models.CharField(max_length=64, default="")
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    text = models.CharField(max_length=300, default="")
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=0)
    outcome = SealedJSONField(null=True)
    problem = SealedJSONField(null=True)
    requested_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, null=True)
    address = models.CharField(max_length=60, default="")
    created_at = models.DateTimeField(auto_now_add=True)
    seen_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"{self.kind} {self.pk} {self.state}"

    @property
    def is_over(self) -> bool:
        return self.state in (self.State.DONE, self.State.REFUSED, self.State.CANCELLED)
