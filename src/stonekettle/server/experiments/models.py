"""Experiments and their revisions."""

from __future__ import annotations

from typing import Any, cast

from django.db import models
from django.db.models import Max

from stonekettle.plan import document
from stonekettle.plan.differences import differences
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError
from stonekettle.plan.references import mentions, renamed, renamed_parts
from stonekettle.server import references
from stonekettle.server.drafts import Document, Draft, DraftRevision
from stonekettle.server.sealed import SealedTextField
from stonekettle.server.systems.models import System


class Experiment(Draft):
    """A question and everything needed to run it; what it is stands in its revision in force.

    ``system`` is the system its document names, None when the document describes one itself. Two may have one name.
    ``peak`` is the load that somebody expects at the most, ``peak_in`` what it is told in (:mod:`core.headroom`).
    """

    name = models.CharField(max_length=80)
    system = models.ForeignKey(System, models.SET_NULL, null=True, related_name="experiments")
    peak = models.FloatField(null=True)
    peak_in = models.CharField(max_length=10, default="load")

    @property
    def current(self) -> Revision:
        return cast(Revision, super().current)

    @property
    def steps(self) -> models.QuerySet[Any]:
        return super().steps.filter(aside=False)

    def may_amend(self) -> bool:
        return not self.current.runs.exists()

    def forget_undone(self) -> int:
        """Runs keep the revision they used, also one that was undone: it is put aside."""
        undone = self.steps.filter(number__gt=self.position)
        run = list(undone.filter(runs__isnull=False).values_list("pk", flat=True))
        undone.exclude(pk__in=run).delete()
        self.revisions.filter(pk__in=run).update(aside=True)
        return int(self.revisions.aggregate(last=Max("number"))["last"]) + 1

    def take_up(self, revision: DraftRevision) -> None:
        super().take_up(revision)
        told = cast(Revision, revision).references
        self.system_id = next(iter(references.keys(told, "system")), None)


class Revision(DraftRevision):
    """One state of an experiment: the text as its author wrote it, the checked plan as ``document``, and what is meant
    by the names in them. ``changes`` says what differs from the one before it; None: it was saved before that was
    noted. ``aside``: it was run, undone, and another one came in its place."""

    experiment = models.ForeignKey(Experiment, models.CASCADE, related_name="revisions")
    source = SealedTextField()
    references: models.JSONField[Any, Any] = models.JSONField(default=dict)
    changes: models.JSONField[Any, Any] = models.JSONField(null=True, default=None)
    aside = models.BooleanField(default=False)

    class Meta(DraftRevision.Meta):
        constraints = (models.UniqueConstraint(fields=["experiment", "number"], name="one_revision_per_number"),)

    def __str__(self) -> str:
        return f"{self.experiment} r{self.number}"

    @property
    def text(self) -> str:
        """The text with the names of today; everything else in it is as it was written."""
        return renamed(self.source, references.names_today(self.references))

    @property
    def plan(self) -> Plan:
        """The plan as it was checked, with the names of today."""
        return document.stored(self._plan_today)

    @property
    def today(self) -> Document:
        plan = self._plan_today
        return {"name": plan["name"], "source": self.text, "plan": plan}

    def hold(self, document: Document) -> None:
        self.source, self.document = document["source"], document["plan"]

    def refer(self, before: DraftRevision | None) -> None:
        known = before.references if isinstance(before, Revision) else None
        self.references = references.identities([mention.key for mention in mentions(self.source)], known)

    def compare(self, before: DraftRevision | None) -> None:
        if not isinstance(before, Revision):
            self.changes = []
            return
        try:
            self.changes = list(differences(before.plan, self.plan))
        except PlanError:  # the one before cannot be read any more
            self.changes = None

    @property
    def _plan_today(self) -> Document:
        names = references.names_today(self.references)
        return renamed_parts(self.document, names) if names else cast(Document, self.document)
