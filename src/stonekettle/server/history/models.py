"""Who did what, in one history that only grows."""

from __future__ import annotations

from typing import Any

from django.db import models


class Deed(models.Model):
    """Somebody did something to something. The database refuses to change or delete one.

    ``kind`` and ``object_id`` tell what it was done to, ``object_name`` how that was called then; ``changes`` is a list
    of {path, before, after}, secrets hidden. What goes on with the same ``revision`` of an object is one piece of work:
    the last of its deeds tells the whole.
    """

    at = models.DateTimeField(auto_now_add=True)
    who = models.CharField(max_length=150)
    role = models.CharField(max_length=20)
    address = models.CharField(max_length=60)
    did = models.CharField(max_length=40)
    kind = models.CharField(max_length=20)
    object_id = models.PositiveBigIntegerField(null=True)
    object_name = models.CharField(max_length=200)
    revision = models.PositiveBigIntegerField(null=True)
    note = models.TextField(default="")
    changes: models.JSONField[Any, Any] = models.JSONField(default=list)

    class Meta:
        ordering = ("-pk",)
        indexes = (
            models.Index(fields=["kind", "object_id", "-id"], name="deeds_of_an_object"),
            models.Index(fields=["who", "-id"], name="deeds_of_a_person"),
        )

    def __str__(self) -> str:
        return f"{self.who} {self.did} {self.kind} {self.object_name}"
