"""Feeds, their revisions, and the rows of uploaded files."""

from __future__ import annotations

import csv
import hashlib
import io
from collections.abc import Iterable, Iterator, Sequence
from itertools import islice

from django.db import models, transaction

from stonekettle.plan.checking import validated
from stonekettle.plan.feed import FeedDraft, Rows
from stonekettle.server.drafts import Draft, DraftRevision
from stonekettle.server.sealed import SealedTextField

PIECE_ROWS = 20_000


class Feed(Draft):
    """A feed with its document."""

    @property
    def draft(self) -> FeedDraft:
        return validated(FeedDraft, self.document)


class FeedRevision(DraftRevision):
    """One state of a feed's document."""

    feed = models.ForeignKey(Feed, models.CASCADE, related_name="revisions")

    class Meta(DraftRevision.Meta):
        constraints = (models.UniqueConstraint(fields=["feed", "number"], name="one_feed_revision_per_number"),)

    def __str__(self) -> str:
        return f"{self.feed} r{self.number}"


class FeedFile(models.Model):
    """Rows as CSV text (UTF-8, commas, a header), found by their SHA-256 and kept in pieces. They never
    change, so that a run keeps the rows it used."""

    digest = models.CharField(max_length=64, primary_key=True)
    rows = models.PositiveIntegerField()
    header = SealedTextField()
    created_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"{self.rows} rows {self.digest[:8]}"

    @classmethod
    @transaction.atomic
    def keep(cls, rows: Rows) -> str:
        """Keep the rows, unless they are kept already; returns their digest."""
        header, *pieces = pieces_of(rows)
        whole = hashlib.sha256()
        for text in (header, *pieces):
            whole.update(text.encode())
        digest = whole.hexdigest()
        if not cls.objects.filter(pk=digest).exists():
            file = cls.objects.create(digest=digest, rows=len(rows), header=header)
            for number, text in enumerate(pieces):
                FeedPiece.objects.create(file=file, number=number, content=text)
        return digest

    @classmethod
    def text_of(cls, digest: str) -> str | None:
        file = cls.objects.filter(pk=digest).first()
        return None if file is None else "".join(file.texts())

    @classmethod
    def page(cls, digest: str, start: int, count: int) -> list[tuple[str, ...]]:
        """Some rows from number ``start`` on; only the pieces they stand in are opened."""
        first, last = start // PIECE_ROWS, (start + count - 1) // PIECE_ROWS
        wanted = FeedPiece.objects.filter(file_id=digest, number__gte=first, number__lte=last)
        text = "".join(str(piece.content) for piece in wanted)
        before = start - first * PIECE_ROWS
        return [tuple(row) for row in islice(csv.reader(io.StringIO(text, newline="")), before, before + count)]

    def texts(self) -> Iterator[str]:
        """The header, then the pieces, one at a time."""
        yield str(self.header)
        for piece in FeedPiece.objects.filter(file=self).iterator(chunk_size=1):
            yield str(piece.content)


class FeedPiece(models.Model):
    """:data:`PIECE_ROWS` rows of a file, the last ones fewer, as CSV text."""

    file = models.ForeignKey(FeedFile, models.CASCADE, related_name="pieces")
    number = models.PositiveIntegerField()
    content = SealedTextField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=["file", "number"], name="one_piece_per_number"),)
        ordering = ("number",)

    def __str__(self) -> str:
        return f"piece {self.number} of {self.file}"


def pieces_of(rows: Rows) -> Iterator[str]:
    """The header as CSV text, then the rows in pieces."""
    yield csv_text([rows.columns])
    for start in range(0, len(rows), PIECE_ROWS):
        yield csv_text(rows.values[start : start + PIECE_ROWS])


def csv_text(rows: Iterable[Sequence[str]]) -> str:
    """Rows as CSV, a line each."""
    written = io.StringIO()
    csv.writer(written, lineterminator="\n").writerows(rows)
    return written.getvalue()
