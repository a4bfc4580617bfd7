"""Documents that are edited as one goes: saved in revisions, undone and redone, copied, archived."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Generic, TypeVar, cast

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models, transaction
from django.utils import timezone
from ninja import Field, Schema

from stonekettle.plan import secrecy
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.problems import Conflict, Outdated
from stonekettle.server.sealed import SealedJSONField

Document = Mapping[str, Any]


class Draft(models.Model):
    """A document by name. ``position`` is the revision in force: undo moves it back, redo forth."""

    name = models.CharField(max_length=80, unique=True)
    position = models.PositiveIntegerField(default=1)
    archived_at = models.DateTimeField(null=True)
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        abstract = True
        ordering = ("name",)

    def __str__(self) -> str:
        return self.name

    @property
    def current(self) -> DraftRevision:
        return cast(DraftRevision, self.revisions.get(number=self.position))  # type: ignore[attr-defined]

    @property
    def document(self) -> Document:
        """The document in force, with the names that everything has today."""
        return self.current.today

    @property
    def can_redo(self) -> bool:
        return bool(self.revisions.filter(number__gt=self.position).exists())  # type: ignore[attr-defined]


class DraftRevision(models.Model):
    """One state of a document; ``editor`` is the open page it was saved from. A subclass adds the key to its
    draft, with the name ``revisions`` back, and overrides the rest where its documents name others."""

    number = models.PositiveIntegerField()
    document = SealedJSONField()
    editor = models.CharField(max_length=40, default="")
    author = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        abstract = True
        ordering = ("-number",)

    @property
    def today(self) -> Document:
        """The document with the names of today."""
        return cast(Document, self.document)

    def refer(self, before: DraftRevision | None) -> None:
        """Note what the document names, before it is saved after another."""


class DraftBody(Schema):
    """A document to save: made from the revision ``base``, in the open page ``editor`` (any text of its own);
    with ``continues`` it goes on with what that page saved last, and takes its place."""

    document: dict[str, Any]
    base: int
    editor: str = Field(default="", max_length=40)
    continues: bool = False


class StepBody(Schema):
    """An undo or redo asked for while ``base`` was in force."""

    base: int | None = None


D = TypeVar("D", bound=Draft)


class Drafts(Generic[D]):
    """What may happen to the documents of a kind.

    ``check(document, before)`` gives the checked document to keep, or raises :class:`PlanError`; ``within`` finds the
    secrets of a document; ``amended(draft)`` tells that the revision in force is not what it was.
    """

    def __init__(
        self,
        model: type[D],
        kind: str,
        check: Callable[[Document, Document | None], dict[str, Any]],
        within: Callable[[Any, secrecy.Change], Any] = lambda document, change: document,
        amended: Callable[[D], None] = lambda draft: None,
    ) -> None:
        self._model, self._kind, self._check = model, kind, check
        self._within, self._amended = within, amended

    @property
    def _all(self) -> models.QuerySet[D]:
        return self._model._default_manager.all()

    @transaction.atomic
    def create(self, document: Document, author: User | None) -> D:
        checked = self._check(document, None)
        self._check_name(checked["name"], None)
        draft = self._all.create(name=checked["name"])
        self._keep(draft, 1, checked, author, None)
        return draft

    @transaction.atomic
    def save(self, draft: D, document: Document, author: User | None, edit: DraftBody | None = None) -> D:
        """A new revision after the one in force; what had been undone is gone then. Raises :class:`Outdated`
        where the ``edit`` was made from another one that its own page did not save."""
        draft = self._locked(draft)
        if draft.archived_at is not None:
            raise Conflict(f"{draft.name} is archived. Bring it back before you change it.")
        current = draft.current
        own = edit is not None and edit.editor != "" and edit.editor == current.editor
        if edit is not None and edit.base != current.pk and not own:
            raise self._outdated(draft, edit.base)
        before = current.today
        after = self._check(document, before)
        if after == before:
            return draft
        self._check_name(after["name"], draft)
        if edit is not None and edit.continues and own and draft.position > 1 and not draft.can_redo:
            current.document = after
            current.refer(current)
            current.save()
            self._amended(draft)
            return self._move(draft, draft.position)
        draft.revisions.filter(number__gt=draft.position).delete()  # type: ignore[attr-defined]
        self._keep(draft, draft.position + 1, after, author, current, edit.editor if edit else "")
        return self._move(draft, draft.position + 1)

    @transaction.atomic
    def undo(self, draft: D, base: int | None = None) -> D:
        draft = self._locked(draft)
        self._check_base(draft, base)
        if draft.position <= 1:
            raise Conflict("There is nothing to undo.")
        return self._move(draft, draft.position - 1)

    @transaction.atomic
    def redo(self, draft: D, base: int | None = None) -> D:
        draft = self._locked(draft)
        self._check_base(draft, base)
        if not draft.can_redo:
            raise Conflict("There is nothing to redo.")
        return self._move(draft, draft.position + 1)

    @transaction.atomic
    def duplicate(self, draft: D, author: User | None) -> D:
        """A copy under a free name, with an undo history of its own."""
        document = {**draft.document, "name": self.free_name(f"{draft.name} copy")}
        copy = self._all.create(name=document["name"])
        self._keep(copy, 1, document, author, None)
        return copy

    def archive(self, draft: D, archived: bool) -> None:
        """Out of the way, or back again; runs and experiments keep what they have."""
        self._all.filter(pk=draft.pk).update(archived_at=timezone.now() if archived else None)

    def find(self, name: str) -> Document | None:
        """The document in force of this name."""
        draft = self._all.filter(name=name).first()
        return draft.document if draft else None

    def free_name(self, wanted: str) -> str:
        names = set(self._all.filter(name__startswith=wanted[:70]).values_list("name", flat=True))
        candidates = (f"{wanted[:70]} {number}" if number > 1 else wanted[:76] for number in range(1, len(names) + 2))
        return next(name for name in candidates if name not in names)

    def _locked(self, draft: D) -> D:
        return self._all.select_for_update().get(pk=draft.pk)

    def _check_base(self, draft: D, base: int | None) -> None:
        if base is not None and base != draft.current.pk:
            raise self._outdated(draft, base)

    def _outdated(self, draft: D, base: int) -> Outdated:
        current = draft.current
        made_from = draft.revisions.filter(pk=base).first()  # type: ignore[attr-defined]
        shown = [self._within(r.today, secrecy.hide) if r else None for r in (current, made_from)]
        return Outdated(current.author.get_username() if current.author else "", current.pk, *shown)

    def _keep(
        self,
        draft: D,
        number: int,
        document: Document,
        author: User | None,
        before: DraftRevision | None,
        editor: str = "",
    ) -> None:
        revisions = draft.revisions  # type: ignore[attr-defined]
        revision = revisions.model(number=number, document=document, author=author, editor=editor)
        revision.refer(before)
        revisions.add(revision, bulk=False)

    def _move(self, draft: D, position: int) -> D:
        """Put a revision in force."""
        name = draft.revisions.get(number=position).document["name"]  # type: ignore[attr-defined]
        if name != draft.name:
            self._check_name(name, draft)
        draft.position, draft.name = position, name
        draft.save()
        return draft

    def _check_name(self, name: str, own: D | None) -> None:
        taken = self._all.filter(name=name).first()
        if taken is not None and taken != own:
            message = f"there is a {self._kind} named {name!r} already."
            raise PlanError([Problem("name", message, "Choose another name.")])
