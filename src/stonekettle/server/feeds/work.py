"""What takes long about feeds: reading a file with rows."""

from __future__ import annotations

from typing import Any, Literal

from ninja import Field, Schema

from stonekettle.plan.imports import table
from stonekettle.server.feeds import rules
from stonekettle.server.feeds.models import Feed
from stonekettle.server.jobs.work import Work

PREVIEW = 20


class FeedFileReading(Schema):
    """How a file is to be read; what is left empty is recognised."""

    encoding: str = Field(default="", max_length=40)
    delimiter: str = Field(default="", max_length=1)
    header: bool | None = None


class FeedFileLookup(Schema):
    """What a file holds: how it was read, ``titles`` as they stand in it, ``columns`` as proposed
    names, its first rows, and the lines whose number of values differs (``ragged``, the first ones)."""

    encoding: str
    encodings: list[str]
    delimiter: str
    header: bool
    titles: list[str]
    columns: list[str]
    total: int
    rows: list[list[str]]
    ragged: list[int]
    ragged_total: int


class FeedFileFound(Schema):
    kind: Literal["feed file"] = "feed file"
    found: FeedFileLookup


class FeedFileUse(FeedFileReading):
    """What becomes of a file: the names of its columns, what happens to ragged rows, and the name of
    the new feed."""

    name: str = Field(min_length=1, max_length=80)
    columns: list[str] = Field(max_length=1_000)
    ragged: Literal["refuse", "fill up", "leave out"] = "refuse"


class FeedKept(Schema):
    kind: Literal["feed"] = "feed"
    id: int


def look(work: Work) -> FeedFileFound:
    """What a CSV file holds. Nothing is kept."""
    work.tell("Reading the rows")
    found = _table(work, FeedFileReading.model_validate(work.given["reading"]))
    return FeedFileFound(
        found=FeedFileLookup(
            encoding=found.encoding,
            encodings=list(table.ENCODINGS),
            delimiter=found.delimiter,
            header=found.header,
            titles=list(found.titles),
            columns=list(found.columns),
            total=len(found.records),
            rows=list(found.records[:PREVIEW]),
            ragged=list(found.ragged[:PREVIEW]),
            ragged_total=len(found.ragged),
        )
    )


def keep(work: Work) -> FeedKept:
    """A new feed of a file's rows, or other rows for the one that is named."""
    use = FeedFileUse.model_validate(work.given["use"])
    work.tell("Reading the rows")
    read = _table(work, use)
    work.tell(f"Keeping {len(read.records)} rows")
    part: dict[str, Any] = rules.kept(read, use.columns, use.ragged, work.given["file_name"])
    replaced = work.given.get("feed")
    if replaced is not None:
        return FeedKept(id=rules.replace(work.actor, Feed.objects.get(pk=replaced), part).pk)
    return FeedKept(id=rules.upload(work.actor, use.name, part).pk)


def _table(work: Work, reading: FeedFileReading) -> table.Table:
    return table.read(work.content, reading.encoding, reading.delimiter, reading.header)
