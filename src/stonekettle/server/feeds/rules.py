"""What may happen to a feed."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain, islice
from typing import Any

from stonekettle.plan.checking import plain, validated
from stonekettle.plan.feed import FeedDraft, Rows
from stonekettle.plan.imports.table import Ragged, Table
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.access.roles import Actor
from stonekettle.server.drafts import Document, Drafts
from stonekettle.server.feeds.models import PIECE_ROWS, Feed, FeedFile, csv_text, pieces_of

NEW_NAME = "New feed"
EXAMPLE: dict[str, Any] = {
    "rows": 1000,
    "columns": [
        {"name": "account", "sequence": {"from": 1, "digits": 6, "prefix": "A-"}},
        {"name": "person", "person": {"part": "full"}},
    ],
}


def checked(given: Document, before: Document | None) -> dict[str, Any]:
    """A valid document whose rows are kept here."""
    draft = validated(FeedDraft, given)
    if draft.file is not None and not FeedFile.objects.filter(pk=draft.file.digest).exists():
        message = "the rows of this file are not kept here."
        raise PlanError([Problem("file", message, "Upload the file.")])
    return plain(draft)


drafts = Drafts(Feed, "feed", checked)


def kept(table: Table, columns: list[str], ragged: Ragged, filename: str) -> dict[str, Any]:
    """A file's rows, kept, as the part of a feed's document that names them."""
    rows = table.rows(columns, ragged)
    repeated = sorted({name for name in columns if columns.count(name) > 1})
    if repeated:
        message = f"two columns are named {repeated[0]!r}."
        raise PlanError([Problem("columns", message, "Give each its own name.")])
    part = {"digest": "0" * 64, "columns": columns, "rows": len(rows), "filename": filename[-255:]}
    validated(FeedDraft, {"name": "x", "file": part})
    return {**part, "digest": FeedFile.keep(rows)}


def upload(actor: Actor, name: str, file: Document) -> Feed:
    """A new feed of a file's rows."""
    return drafts.create(actor, {"name": name, "file": file})


def replace(actor: Actor, feed: Feed, file: Document) -> Feed:
    """Other rows for a feed; how they are taken stays."""
    document = {key: value for key, value in feed.document.items() if key not in ("csv", "make", "file")}
    return drafts.save(actor, feed, {**document, "file": file})


def rows(draft: FeedDraft, start: int = 0, count: int | None = None) -> Rows:
    """Rows of a feed from ``start`` on; none while it has no source."""
    feed = draft.feed
    if feed is None:
        return Rows((), [])
    if feed.make is not None and count is not None:
        return Rows(feed.columns, feed.make.rows_made(count, start))
    elif feed.file is not None and count is not None:
        return Rows(feed.columns, FeedFile.page(feed.file.digest, start, count))
    elif feed.file is not None:
        found = feed.with_text(FeedFile.text_of(feed.file.digest) or "").rows
    else:
        found = feed.rows
    end = None if count is None else start + count
    return Rows(found.columns, list(islice(found.values, start, end)))


def texts(draft: FeedDraft) -> Iterator[str]:
    """All rows of a feed as CSV text with a header, a piece at a time."""
    feed = draft.feed
    file = FeedFile.objects.filter(pk=feed.file.digest).first() if feed and feed.file else None
    if file is not None:
        return file.texts()
    if feed is not None and feed.make is not None:
        made = map(csv_text, feed.make.pieces_made(PIECE_ROWS))
        return chain([csv_text([feed.columns])], made)
    return pieces_of(rows(draft))
