"""A table of text from a file's bytes: its encoding, delimiter and header recognised or told.

Rows whose number of values is not that of the first row are ragged. They are counted and named, and
nothing is taken until it is said whether they are filled up or left out.
"""

from __future__ import annotations

import csv
import io
import re
import unicodedata
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import islice
from typing import Literal

import charset_normalizer

from stonekettle.plan.feed import MAX_ROWS, Rows
from stonekettle.plan.problems import PlanError, Problem

MAX_BYTES = 50_000_000
ENCODINGS = (
    "utf-8", "utf-16", "windows-1252", "windows-1250", "windows-1251", "windows-1253", "windows-1254",
    "iso-8859-2", "shift_jis", "gb18030",
)  # fmt: skip
DELIMITERS = (",", ";", "\t", "|")
SAMPLE = 200
MAX_COLUMNS = 300
Ragged = Literal["refuse", "fill up", "leave out"]
_MARKS = ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))
_NUMBER = re.compile(r"[-+]?[0-9][0-9 .,:/-]*")


@dataclass(frozen=True)
class Table:
    """What a file holds: ``titles`` as they stand in it (or made, without a header), ``columns`` as
    they can be used in ``{{name}}``, and the line numbers of ragged rows."""

    encoding: str
    delimiter: str
    header: bool
    titles: tuple[str, ...]
    columns: tuple[str, ...]
    records: Sequence[list[str]]
    ragged: tuple[int, ...]

    def rows(self, columns: Sequence[str] | None = None, ragged: Ragged = "refuse") -> Rows:
        """The rows under these column names. Raises :class:`PlanError` for ragged ones that may not be."""
        width = len(self.titles)
        if self.ragged and ragged == "refuse":
            lines = ", ".join(map(str, self.ragged[:5])) + (" …" if len(self.ragged) > 5 else "")
            message = f"{len(self.ragged)} rows have more or fewer than {width} values: line {lines}."
            raise PlanError([Problem("file", message, "Fill them up, leave them out, or correct the file.")])
        names = tuple(columns or self.columns)
        if len(names) != width:
            message = f"{len(names)} names for {width} columns."
            raise PlanError([Problem("columns", message, "Give each column a name.")])
        if ragged == "leave out":
            values = [tuple(row) for row in self.records if len(row) == width]
        else:
            values = [tuple(row[:width]) + ("",) * (width - len(row)) for row in self.records]
        if not values:
            raise PlanError([Problem("file", "no row is left.", "Choose a file with rows below its header.")])
        return Rows(names, values)


def read(content: bytes, encoding: str = "", delimiter: str = "", header: bool | None = None) -> Table:
    """The table in ``content``; what is not told is recognised. Raises :class:`PlanError`."""
    if len(content) > MAX_BYTES:
        raise _refused(f"the file is over {MAX_BYTES // 1_000_000} MB.", "Split it.")
    text, encoding = decoded(content, encoding)
    if not text.strip():
        raise _refused("the file is empty.", "Choose a file with a row on each line.")
    if "\0" in text[:10_000]:
        raise _refused("this is no text.", "Save the table as CSV.")
    delimiter = delimiter or delimiter_of(text)
    try:
        numbered = _records(text, delimiter)
    except csv.Error as error:
        raise _refused(f"it cannot be read: {error}.", "Close every quote, or choose another delimiter.") from error
    if not numbered:
        raise _refused("no row has a value.", "Choose a file with a row on each line.")
    if len(numbered) > MAX_ROWS + 1:
        raise _refused(f"the file has over {MAX_ROWS} rows.", f"Use at most {MAX_ROWS}.")
    first = numbered[0][1]
    if len(first) > MAX_COLUMNS:
        raise _refused(f"its first row has {len(first)} values.", f"Keep at most {MAX_COLUMNS} columns.")
    if header is None:
        header = _is_header(first, [record for _, record in numbered[1:SAMPLE]])
    titles = tuple(title.strip() for title in first) if header else tuple(f"column {i + 1}" for i in range(len(first)))
    body = numbered[1:] if header else numbered
    ragged = tuple(line for line, record in body if len(record) != len(first))
    return Table(encoding, delimiter, header, titles, _usable(titles), [record for _, record in body], ragged)


def decoded(content: bytes, encoding: str = "") -> tuple[str, str]:
    """The text of ``content`` and its encoding. Raises :class:`PlanError` where it is not in the one told."""
    encoding = encoding or _encoding(content)
    if encoding not in ENCODINGS:
        raise PlanError([Problem("encoding", f"{encoding[:40]!r} is not offered.", f"Use {', '.join(ENCODINGS)}.")])
    try:
        return content.decode("utf-8-sig" if encoding == "utf-8" else encoding), encoding
    except (UnicodeDecodeError, LookupError) as error:
        raise _refused(f"the file is not in {encoding}: {error}.", "Choose another encoding.") from error


def delimiter_of(text: str) -> str:
    """The delimiter under which the first rows agree best on a number of values above one."""
    start = "\n".join(text.split("\n", SAMPLE)[:SAMPLE])

    def agreement(delimiter: str) -> tuple[float, int]:
        try:
            widths = [len(row) for row in csv.reader(io.StringIO(start), delimiter=delimiter) if row]
        except csv.Error:
            return 0.0, 0
        if not widths:
            return 0.0, 0
        (width, count), *_ = Counter(widths).most_common(1)
        return (count / len(widths) if width > 1 else 0.0), width

    return max(DELIMITERS, key=agreement)


def _encoding(content: bytes) -> str:
    marked = next((name for mark, name in _MARKS if content.startswith(mark)), None)
    if marked is not None:
        return marked
    try:
        content.decode("utf-8")
        return "utf-8"
    except UnicodeDecodeError:
        pass
    # Only lines with other letters tell which encoding they are in. Alike ones may read them the same.
    telling = b"\n".join([line for line in content.split(b"\n") if not line.isascii()][:SAMPLE])
    best = charset_normalizer.from_bytes(telling, cp_isolation=list(ENCODINGS[2:])).best()
    text = str(best) if best else ""
    return next((name for name in ENCODINGS[2:] if telling.decode(name, "replace") == text), "windows-1252")


def _records(text: str, delimiter: str) -> list[tuple[int, list[str]]]:
    """Every row that is not blank, with the number of its last line; no more than shows that they are too many."""
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True)
    return list(islice(((reader.line_num, record) for record in reader if any(record)), MAX_ROWS + 2))


def _is_header(first: Sequence[str], others: Sequence[Sequence[str]]) -> bool:
    """Whether the first row names columns: different words, no numbers, unlike what stands below."""
    titles = [title.strip() for title in first]
    if not others or not all(titles) or len(set(titles)) < len(titles):
        return False
    if any(_NUMBER.fullmatch(title) for title in titles):
        return False
    below = [{row[i].strip() for row in others if i < len(row)} for i in range(len(titles))]
    return not any(title in values for title, values in zip(titles, below, strict=True))


def _usable(titles: Sequence[str]) -> tuple[str, ...]:
    """Names for ``{{name}}`` as like the titles as can be, each once."""
    names: dict[str, None] = {}
    for number, title in enumerate(titles, start=1):
        plain = unicodedata.normalize("NFKD", title.replace("ß", "ss")).encode("ascii", "ignore").decode()
        name = re.sub(r"[^A-Za-z0-9]+", "_", plain).strip("_").lower()[:70] or f"column_{number}"
        name = f"_{name}" if name[0].isdigit() else name
        names[name if name not in names else f"{name}_{number}"] = None
    return tuple(names)


def _refused(message: str, mend: str) -> PlanError:
    return PlanError([Problem("file", message, mend)])
