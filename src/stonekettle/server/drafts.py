"""Documents that are edited as one goes: saved in revisions, undone and redone, copied, archived."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Generic, TypeVar, cast

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models
from django.utils import timezone
from ninja import Field, Schema

from stonekettle.plan import secrecy
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, Act
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
    def steps(self) -> models.QuerySet[Any]:
        """The revisions that undo and redo walk through."""
        return cast(models.QuerySet[Any], self.revisions.all())  # type: ignore[attr-defined]

    @property
    def can_undo(self) -> bool:
        return self.steps.filter(number__lt=self.position).exists()

    @property
    def can_redo(self) -> bool:
        return self.steps.filter(number__gt=self.position).exists()

    def step(self, by: int) -> DraftRevision:
        """The revision before (-1) or after (1) the one in force, where there is one."""
        found = self.steps.filter(number__lt=self.position) if by < 0 else self.steps.filter(number__gt=self.position)
        return cast(DraftRevision, found.order_by("-number" if by < 0 else "number")[0])

    def may_amend(self) -> bool:
        """Whether the revision in force may still become another one."""
        return True

    def forget_undone(self) -> int:
        """Give up what was undone; the number of the revision to come."""
        self.steps.filter(number__gt=self.position).delete()
        return self.position + 1

    def take_up(self, revision: DraftRevision) -> None:
        """Be what a revision says, which is in force from now on."""
        self.position, self.name = revision.number, revision.document["name"]


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

    def hold(self, document: Document) -> None:
        """Be this document."""
        self.document = document

    def refer(self, before: DraftRevision | None) -> None:
        """Note what the document names, before it is saved after another."""

    def compare(self, before: DraftRevision | None) -> None:
        """Note what it changes of the one before it."""


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
    secrets of a document; ``amended(draft)`` tells that the revision in force is not what it was; ``essence`` is what a
    page edits of a document, and ``called`` gives it another name. ``named_once``: no two have one name.
    """

    def __init__(
        self,
        model: type[D],
        kind: str,
        check: Callable[[Document, Document | None], dict[str, Any]],
        within: Callable[[Any, secrecy.Change], Any] = lambda document, change: document,
        amended: Callable[[D], None] = lambda draft: None,
        essence: Callable[[Document], Document] = lambda document: document,
        called: Callable[[Document, str], Document] = lambda document, name: {**document, "name": name},
        named_once: bool = True,
    ) -> None:
        self._model, self._kind, self._check = model, kind, check
        self._within, self._amended = within, amended
        self._essence, self._called, self._named_once = essence, called, named_once
        self.create = Act("created", Role.PLANNER, self._create)
        self.save = Act("changed", Role.PLANNER, self._save)
        self.undo = Act("undid a change of", Role.PLANNER, self._undo)
        self.redo = Act("did again a change of", Role.PLANNER, self._redo)
        self.duplicate = Act("copied", Role.PLANNER, self._duplicate)
        self.archive = Act("archived", Role.PLANNER, self._archive)
        self.bring_back = Act("brought back", Role.PLANNER, self._bring_back)

    @property
    def _all(self) -> models.QuerySet[D]:
        return self._model._default_manager.all()

    def _create(self, account: Account, document: Document) -> D:
        checked = self._check(document, None)
        self._check_name(checked["name"], None)
        draft = self._begin(checked, account.actor.user)
        self._tell(account, draft)
        return draft

    def _save(self, account: Account, draft: D, document: Document, edit: DraftBody | None = None) -> D:
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
        if self._essence(after) == self._essence(before):
            return draft
        self._check_name(after["name"], draft)
        goes_on = edit is not None and edit.continues and own
        if goes_on and draft.can_undo and not draft.can_redo and draft.may_amend():
            earlier = draft.step(-1)
            current.hold(after)
            current.refer(current)
            current.compare(earlier)
            current.save()
            self._amended(draft)
            draft = self._move(draft, current)
            self._tell(account, draft, earlier.today)
            return draft
        number = draft.forget_undone()
        made = self._keep(draft, number, after, account.actor.user, current, edit.editor if edit else "")
        draft = self._move(draft, made)
        self._tell(account, draft, before)
        return draft

    def _undo(self, account: Account, draft: D, base: int | None = None) -> D:
        draft = self._locked(draft)
        self._check_base(draft, base)
        if not draft.can_undo:
            raise Conflict("There is nothing to undo.")
        return self._step(account, draft, -1)

    def _redo(self, account: Account, draft: D, base: int | None = None) -> D:
        draft = self._locked(draft)
        self._check_base(draft, base)
        if not draft.can_redo:
            raise Conflict("There is nothing to redo.")
        return self._step(account, draft, 1)

    def _step(self, account: Account, draft: D, by: int) -> D:
        before = draft.current.today
        draft = self._move(draft, draft.step(by))
        self._tell(account, draft, before, one_piece=False)
        return draft

    def _duplicate(self, account: Account, draft: D) -> D:
        """A copy under a free name, with an undo history of its own."""
        document = self._called(draft.document, self.free_name(f"{draft.name} copy"))
        copy = self._begin(document, account.actor.user)
        account.about(self._kind, copy.pk, copy.name, note=f"a copy of {draft.name}")
        return copy

    def _archive(self, account: Account, draft: D) -> None:
        """Out of the way; runs and experiments keep what they have."""
        if self._all.filter(pk=draft.pk, archived_at=None).update(archived_at=timezone.now()):
            account.about(self._kind, draft.pk, draft.name)

    def _bring_back(self, account: Account, draft: D) -> None:
        if self._all.filter(pk=draft.pk, archived_at__isnull=False).update(archived_at=None):
            account.about(self._kind, draft.pk, draft.name)

    def shelve(self, actor: Actor, draft: D, archived: bool) -> None:
        """Out of the way, or back again."""
        (self.archive if archived else self.bring_back)(actor, draft)

    def find(self, name: str) -> Document | None:
        """The document in force of this name."""
        draft = self._all.filter(name=name).first()
        return draft.document if draft else None

    def free_name(self, wanted: str) -> str:
        names = set(self._all.filter(name__startswith=wanted[:70]).values_list("name", flat=True))
        candidates = (f"{wanted[:70]} {number}" if number > 1 else wanted[:76] for number in range(1, len(names) + 2))
        return next(name for name in candidates if name not in names)

    def _tell(self, account: Account, draft: D, before: Document | None = None, *, one_piece: bool = True) -> None:
        """What was done to a draft that is now as it is, and was ``before``; what goes on with the same revision is
        ``one_piece`` of work."""
        current = draft.current
        account.about(self._kind, draft.pk, draft.name, revision=current.pk if one_piece else None)
        if before is not None:
            shown = [dict(self._within(document, secrecy.hide)) for document in (before, current.today)]
            if self._secrets(before) != self._secrets(current.today):
                shown[1]["secrets"] = "other ones"
            account.changed(*shown)

    def _secrets(self, document: Document) -> list[str]:
        found = secrecy.Found()
        self._within(document, found)
        return [str(value) for _, _, value in found.values]

    def _locked(self, draft: D) -> D:
        return self._all.select_for_update().get(pk=draft.pk)

    def _check_base(self, draft: D, base: int | None) -> None:
        if base is not None and base != draft.current.pk:
            raise self._outdated(draft, base)

    def _outdated(self, draft: D, base: int) -> Outdated:
        current = draft.current
        made_from = draft.revisions.filter(pk=base).first()  # type: ignore[attr-defined]
        shown = [self._within(self._essence(r.today), secrecy.hide) if r else None for r in (current, made_from)]
        return Outdated(current.author.get_username() if current.author else "", current.pk, *shown)

    def _begin(self, document: Document, author: User | None) -> D:
        draft = self._all.create(name=document["name"])
        return self._move(draft, self._keep(draft, 1, document, author, None))

    def _keep(
        self,
        draft: D,
        number: int,
        document: Document,
        author: User | None,
        before: DraftRevision | None,
        editor: str = "",
    ) -> DraftRevision:
        revisions = draft.revisions  # type: ignore[attr-defined]
        revision = cast(DraftRevision, revisions.model(number=number, author=author, editor=editor))
        revision.hold(document)
        revision.refer(before)
        revision.compare(before)
        revisions.add(revision, bulk=False)
        return revision

    def _move(self, draft: D, revision: DraftRevision) -> D:
        """Put a revision in force."""
        if revision.document["name"] != draft.name:
            self._check_name(revision.document["name"], draft)
        draft.take_up(revision)
        draft.save()
        return draft

    def _check_name(self, name: str, own: D | None) -> None:
        taken = self._all.filter(name=name).first() if self._named_once else None
        if taken is not None and taken != own:
            message = f"there is a {self._kind} named {name!r} already."
            raise PlanError([Problem("name", message, "Choose another name.")])
