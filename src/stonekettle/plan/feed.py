"""Feeds: rows of data that make each user's requests different."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import Field, PrivateAttr, StringConstraints, field_validator, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.plan.parts import Name, Part
from stonekettle.plan.recipe import Recipe

MAX_ROWS = 1_000_000
Column = Annotated[str, StringConstraints(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$", max_length=80)]
"""A name that can be used as ``{{name}}``."""


@dataclass(frozen=True)
class Rows:
    """A table of text: each row has a value for each column."""

    columns: tuple[str, ...]
    values: Sequence[tuple[str, ...]]

    def __len__(self) -> int:
        return len(self.values)

    def row(self, number: int) -> dict[str, str]:
        """Row ``number`` from 0, round and round."""
        return dict(zip(self.columns, self.values[number % len(self.values)], strict=True))

    @property
    def text(self) -> str:
        """The rows as CSV with a header."""
        written = io.StringIO()
        csv.writer(written, lineterminator="\n").writerows([self.columns, *self.values])
        return written.getvalue()


def rows_of(text: str) -> Rows:
    """The rows of CSV text with a header, as :attr:`Rows.text` writes it."""
    header, *rows = csv.reader(io.StringIO(text.strip("\n")))
    return Rows(tuple(header), [tuple(row) for row in rows])


class FeedFile(Part):
    """Rows kept in the application's store: found by ``digest`` (SHA-256 of their CSV text)."""

    digest: str = Field(pattern=r"^[0-9a-f]{64}$")
    columns: tuple[Column, ...] = Field(min_length=1)
    rows: int = Field(ge=1, le=MAX_ROWS)
    filename: str = Field(default="", max_length=255)


class _Source(Part):
    """Where a feed's rows come from, and how users take them."""

    name: Name
    csv: str | None = None
    make: Recipe | None = None
    file: FeedFile | None = None
    take: Literal["in order", "at random", "one per user"] = "in order"
    end: Literal["start over", "retire"] = "start over"

    @field_validator("csv")
    @classmethod
    def _has_rows(cls, value: str | None) -> str | None:
        if value is None:
            return value
        mend = "Write a header line with column names, then one line for each row."
        try:
            rows = list(csv.reader(io.StringIO(value.strip("\n"))))
        except csv.Error as error:
            raise PydanticCustomError(
                "feed", "the rows cannot be read: {why}.", {"why": str(error), "mend": mend}
            ) from error
        if len(rows) < 2:
            raise PydanticCustomError("feed", "the feed has no rows.", {"mend": mend})
        for number, row in enumerate(rows[1:], start=2):
            if len(row) != len(rows[0]):
                raise PydanticCustomError(
                    "feed_row",
                    "line {number} has {found} values, the header has {wanted}.",
                    {"number": number, "found": len(row), "wanted": len(rows[0]), "mend": mend},
                )
        return value

    def _sources(self) -> int:
        return sum(source is not None for source in (self.csv, self.make, self.file))


_ONE_SOURCE = {"mend": "Write rows under 'csv:', or say under 'make:' how they are made."}


class Feed(_Source):
    """Rows of data, written as CSV with a header, made by a recipe, or kept in a file. Each journey
    begun takes a row: the next one, any one, or always the one of its user. After the last one starts
    over, or the user whose turn it is retires.
    """

    _text: str | None = PrivateAttr(default=None)

    @model_validator(mode="after")
    def _exactly_one(self) -> Feed:
        if self._sources() != 1:
            raise PydanticCustomError("feed", "a feed needs exactly one of csv, make and file.", _ONE_SOURCE)
        return self

    def with_text(self, text: str) -> Feed:
        """The same feed with the CSV text of its file at hand."""
        feed = self.model_copy()
        feed._text = text
        return feed

    @property
    def kept_text(self) -> str | None:
        """The CSV text of its file, once it is at hand."""
        return self._text

    @cached_property
    def rows(self) -> Rows:
        """The rows. Raises LookupError while those of a file are not at hand."""
        if self.make is not None:
            return Rows(self.make.names, self.make.rows_made())
        text = self.csv if self.csv is not None else self._text
        if text is None:
            raise LookupError(f"the rows of the feed {self.name!r} are not at hand")
        return rows_of(text)

    @property
    def columns(self) -> tuple[str, ...]:
        if self.file is not None:
            return self.file.columns
        return self.make.names if self.make is not None else self.rows.columns

    @property
    def is_used_up(self) -> bool:
        """Whether each of its rows is used once and no more."""
        return self.take == "in order" and self.end == "retire"

    def __len__(self) -> int:
        if self.file is not None:
            return self.file.rows
        return self.make.rows if self.make is not None else len(self.rows)


class FeedDraft(_Source):
    """A feed by itself, while it is written: perhaps without rows yet."""

    notes: str = Field(default="", max_length=5_000)

    @model_validator(mode="after")
    def _at_most_one(self) -> FeedDraft:
        if self._sources() > 1:
            raise PydanticCustomError("feed", "a feed has its rows from one place.", _ONE_SOURCE)
        return self

    @property
    def feed(self) -> Feed | None:
        """The feed, once it has rows."""
        return Feed.model_validate(self._plain()) if self._sources() else None

    def _plain(self) -> dict[str, Any]:
        return self.model_dump(mode="json", by_alias=True, exclude_none=True, exclude={"notes"})


def columns_of(feeds: Iterable[Feed]) -> set[str]:
    return {column for feed in feeds for column in feed.columns}
