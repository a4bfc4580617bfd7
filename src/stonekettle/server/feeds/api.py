"""Feeds over HTTP."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from django.http import HttpRequest, StreamingHttpResponse
from django.shortcuts import get_object_or_404
from ninja import File, Form, Router, Schema, Status
from ninja.files import UploadedFile

from stonekettle.server import references
from stonekettle.server.access.roles import actor_of
from stonekettle.server.drafts import DraftBody, StepBody
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.feeds import rules
from stonekettle.server.feeds.models import Feed
from stonekettle.server.feeds.work import PREVIEW, FeedFileReading, FeedFileUse
from stonekettle.server.jobs import rules as jobs
from stonekettle.server.jobs.answers import JobStarted, started
from stonekettle.server.journeys.models import Journey
from stonekettle.server.requests import json_part

router = Router(tags=["feeds"])
MAX_PAGE = 200


class FeedLine(Schema):
    """A feed as a line: how many ``rows`` of which ``columns``, and where they come from."""

    id: int
    name: str
    source: Literal["none", "written", "made", "file"]
    rows: int
    columns: list[str]
    archived: bool
    changed_at: datetime


class FeedUse(Schema):
    """Who uses a feed; ``peak_users`` is what an experiment's load reaches."""

    id: int
    name: str
    kind: Literal["journey", "experiment"]
    peak_users: float | None = None


class FeedDetail(FeedLine):
    document: dict[str, Any]
    revision: int
    can_undo: bool
    can_redo: bool
    uses: list[FeedUse]


class NewFeed(Schema):
    """``make`` begins with an example of rows made to order."""

    make: bool = False


class ArchiveFeed(Schema):
    archived: bool


class FeedCreated(Schema):
    id: int


class RowsPage(Schema):
    """``rows`` from number ``start`` (from 0) of ``total``."""

    columns: list[str]
    start: int
    total: int
    rows: list[list[str]]


@router.get("/feeds", response=list[FeedLine])
def list_feeds(request: HttpRequest, archived: bool = False) -> list[FeedLine]:
    """All feeds by name, those in use or the archived ones."""
    return [FeedLine(**_line(f)) for f in Feed.objects.filter(archived_at__isnull=not archived)]


@router.post("/feeds", response={201: FeedCreated})
def create_feed(request: HttpRequest, body: NewFeed) -> Status[FeedCreated]:
    """A feed to be filled in."""
    name = {"name": rules.drafts.free_name(rules.NEW_NAME)}
    document = {**name, "make": rules.EXAMPLE} if body.make else name
    return Status(201, FeedCreated(id=rules.drafts.create(actor_of(request), document).pk))


@router.post("/feed-files/look", response={202: JobStarted})
def look_at_feed_file(request: HttpRequest, file: File[UploadedFile], reading: Form[str]) -> Status[JobStarted]:
    """What a CSV file holds, read as a FeedFileReading (JSON) says. Nothing is kept."""
    given = {"reading": json_part(FeedFileReading, reading).model_dump()}
    return started(jobs.start(actor_of(request), "look at feed file", given, file))


@router.post("/feed-files", response={202: JobStarted})
def upload_feed_file(request: HttpRequest, file: File[UploadedFile], use: Form[str]) -> Status[JobStarted]:
    """A feed of a file's rows; ``use`` is a FeedFileUse as JSON."""
    given = {"use": json_part(FeedFileUse, use).model_dump()}
    return started(jobs.start(actor_of(request), "keep feed file", given, file))


@router.post("/feeds/{feed_id}/file", response={202: JobStarted})
def replace_feed_file(
    request: HttpRequest, feed_id: int, file: File[UploadedFile], use: Form[str]
) -> Status[JobStarted]:
    """Other rows for a feed, from a file; its name stays."""
    given = {"use": json_part(FeedFileUse, use).model_dump(), "feed": _feed(feed_id).pk}
    return started(jobs.start(actor_of(request), "keep feed file", given, file))


@router.get("/feeds/{feed_id}", response=FeedDetail)
def get_feed(request: HttpRequest, feed_id: int) -> FeedDetail:
    return _detail(_feed(feed_id))


@router.put("/feeds/{feed_id}", response=FeedDetail)
def save_feed(request: HttpRequest, feed_id: int, body: DraftBody) -> FeedDetail:
    """Save the document as a new revision."""
    rules.drafts.save(actor_of(request), _feed(feed_id), body.document, body)
    return _detail(_feed(feed_id))


@router.post("/feeds/{feed_id}/undo", response=FeedDetail)
def undo_feed(request: HttpRequest, feed_id: int, body: StepBody) -> FeedDetail:
    """The revision before becomes the one in force."""
    return _detail(rules.drafts.undo(actor_of(request), _feed(feed_id), body.base))


@router.post("/feeds/{feed_id}/redo", response=FeedDetail)
def redo_feed(request: HttpRequest, feed_id: int, body: StepBody) -> FeedDetail:
    """Take the last undo back."""
    return _detail(rules.drafts.redo(actor_of(request), _feed(feed_id), body.base))


@router.post("/feeds/{feed_id}/duplicate", response={201: FeedCreated})
def duplicate_feed(request: HttpRequest, feed_id: int) -> Status[FeedCreated]:
    return Status(201, FeedCreated(id=rules.drafts.duplicate(actor_of(request), _feed(feed_id)).pk))


@router.post("/feeds/{feed_id}/archive", response=FeedDetail)
def archive_feed(request: HttpRequest, feed_id: int, body: ArchiveFeed) -> FeedDetail:
    """Put a feed out of the way, or bring it back."""
    rules.drafts.shelve(actor_of(request), _feed(feed_id), body.archived)
    return _detail(_feed(feed_id))


@router.get("/feeds/{feed_id}/rows", response=RowsPage)
def feed_rows(request: HttpRequest, feed_id: int, start: int = 0, count: int = PREVIEW) -> RowsPage:
    """Some rows of the feed as it is now."""
    draft = _feed(feed_id).draft
    total = len(draft.feed) if draft.feed else 0
    start, count = min(max(0, start), total), min(max(1, count), MAX_PAGE)
    found = rules.rows(draft, start, count)
    return RowsPage(columns=list(found.columns), start=start, total=total, rows=[list(row) for row in found.values])


@router.get("/feeds/{feed_id}/rows.csv")
def download_feed(request: HttpRequest, feed_id: int) -> StreamingHttpResponse:
    """All rows as CSV with a header, a piece at a time."""
    headers = {"Content-Disposition": 'attachment; filename="feed.csv"'}
    return StreamingHttpResponse(
        rules.texts(_feed(feed_id).draft), content_type="text/csv; charset=utf-8", headers=headers
    )


def _feed(feed_id: int) -> Feed:
    return get_object_or_404(Feed, pk=feed_id)


def _line(feed: Feed) -> dict[str, Any]:
    draft = feed.draft
    rows = draft.feed
    source = "file" if draft.file else "made" if draft.make else "written" if draft.csv else "none"
    return {
        "id": feed.pk,
        "name": feed.name,
        "source": source,
        "rows": len(rows) if rows else 0,
        "columns": list(rows.columns) if rows else [],
        "archived": feed.archived_at is not None,
        "changed_at": feed.changed_at,
    }


def _detail(feed: Feed) -> FeedDetail:
    uses = [
        FeedUse(id=j.pk, name=j.name, kind="journey")
        for j in Journey.objects.all()
        if feed.pk in references.keys(j.named, "feed")
    ]
    for experiment in Experiment.objects.all():
        current = experiment.current
        if feed.pk in experiments.feeds_of(current):
            peak = current.plan.planned.peak_users
            uses.append(FeedUse(id=experiment.pk, name=experiment.name, kind="experiment", peak_users=peak))
    return FeedDetail(
        **_line(feed),
        document=dict(feed.document),
        revision=feed.current.pk,
        can_undo=feed.can_undo,
        can_redo=feed.can_redo,
        uses=uses,
    )
