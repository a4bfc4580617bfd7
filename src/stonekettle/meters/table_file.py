"""Metrics in a file made after the run: CSV with any delimiter, or Parquet."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv
import pyarrow.parquet as pq

from stonekettle.core import alignment
from stonekettle.core.alignment import Alignment
from stonekettle.core.types import FloatArray

MAX_BYTES = 25_000_000
MAX_COLUMNS = 300
DELIMITERS = ",;\t|"
MAX_CELLS = 5_000_000
SHOWN = 5
REACH_S = 900.0
ELAPSED_BELOW = 10_000_000.0
"""Numbers below this are seconds since the run's start, not moments in time."""


class TableError(ValueError):
    """A file or mapping that cannot be used; ``field`` names what is at fault, ``mend`` the cure."""

    def __init__(self, field: str, message: str, mend: str) -> None:
        super().__init__(f"{message} {mend}")
        self.field, self.message, self.mend = field, message, mend


@dataclass(frozen=True)
class Column:
    """A column: whether it can be times or values, whether it only grows, its first values."""

    name: str
    role: Literal["time", "number", "text"]
    grows: bool
    shown: tuple[str, ...]


def read(name: str, content: bytes) -> pa.Table:
    """The table in a file. Raises :class:`TableError`."""
    if len(content) > MAX_BYTES:
        raise TableError("file", f"{name} is over {MAX_BYTES // 1_000_000} MB.", "Cut it to the time of the run.")
    if not content.strip():
        raise TableError("file", f"{name} is empty.", "Choose another file.")
    try:
        table = _read_parquet(name, content) if content[:4] == b"PAR1" else _read_csv(content)
    except (pa.ArrowException, csv.Error, UnicodeDecodeError, OSError) as error:
        first = str(error).strip().splitlines()[0]
        raise TableError(
            "file", f"{name} cannot be read: {first}.", "Save it as CSV with a header, or as Parquet."
        ) from error
    repeated = next((c for c, count in Counter(table.column_names).items() if count > 1), None)
    if repeated is not None:
        raise TableError("file", f"{name} has two columns {repeated!r}.", "Give each column a name of its own.")
    if table.num_columns > MAX_COLUMNS:
        raise TableError("file", f"{name} has {table.num_columns} columns.", f"Keep at most {MAX_COLUMNS}.")
    if table.num_columns < 2 or table.num_rows < 2:
        mend = "It needs a header, a column of times, a column of values, and at least two rows."
        raise TableError("file", f"{name} has {table.num_columns} column(s) and {table.num_rows} row(s).", mend)
    return table


def columns(table: pa.Table) -> tuple[Column, ...]:
    """What each column could be used as."""
    return tuple(_column(name, table[name]) for name in table.column_names)


def times(table: pa.Table, column: str, zone: str, zero: float) -> FloatArray:
    """The column as seconds since ``zero`` (s since the epoch). Times without a zone are in ``zone``
    (a name such as Europe/Lisbon). Raises :class:`TableError`."""
    values = _named(table, column, "time_column")
    if pa.types.is_timestamp(values.type) or pa.types.is_date(values.type):
        zoneless = pa.types.is_date(values.type) or values.type.tz is None
        stamps = pc.cast(values, pa.timestamp("us"))
        if zoneless:
            try:
                ZoneInfo(zone)
                stamps = pc.assume_timezone(stamps, zone, ambiguous="earliest", nonexistent="earliest")
            except (ZoneInfoNotFoundError, ValueError, OSError, pa.ArrowException) as error:
                mend = "Use a name such as Europe/Lisbon, or UTC."
                raise TableError("zone", f"{zone[:80]!r} is not a time zone.", mend) from error
        return _floats(pc.cast(stamps, pa.int64())) / 1e6 - zero
    numbers = _numbers(values, column, "time_column")
    usual = float(np.nanmedian(numbers))
    if usual < ELAPSED_BELOW:
        return numbers
    # Seconds, milliseconds, microseconds or nanoseconds since the epoch, told by their size.
    scale = 1000.0 ** max(0, round((np.log10(usual) - 9.3) / 3))
    return np.asarray(numbers / scale - zero, dtype=np.float64)


def values(table: pa.Table, column: str) -> FloatArray:
    """A column of numbers, NaN where empty. Raises :class:`TableError`."""
    return _numbers(_named(table, column, "columns"), column, "columns")


def best_alignment(
    at: FloatArray, columns: Sequence[FloatArray], counters: Sequence[bool], load: FloatArray
) -> Alignment | None:
    """The offset under which any of the columns follows the load best."""
    order = np.argsort(at, kind="stable")
    found = []
    for column, counter in zip(columns, counters, strict=True):
        t, v = at[order], column[order]
        if counter:
            lengths = np.diff(t)
            t, v = t[1:], np.divide(np.diff(v), lengths, out=np.full(lengths.size, np.nan), where=lengths > 0)
        one = alignment.align(t, v, load, REACH_S)
        if one is not None:
            found.append(one)
    return max(found, key=lambda one: one.correlation, default=None)


def _read_parquet(name: str, content: bytes) -> pa.Table:
    """What a Parquet file holds, once its own description says that it unfolds to a bearable size."""
    file = pq.ParquetFile(io.BytesIO(content))
    shape = file.metadata
    if shape.num_rows * shape.num_columns > MAX_CELLS:
        message = f"{name} has {shape.num_rows} rows of {shape.num_columns} columns."
        raise TableError("file", message, f"Keep at most {MAX_CELLS} values: cut it to the time of the run.")
    return file.read()


def _read_csv(content: bytes) -> pa.Table:
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = content.decode("cp1252", "replace")
    header = text.partition("\n")[0]
    delimiter = max(DELIMITERS, key=header.count)
    if header.count(delimiter) == 0:
        raise csv.Error("its first line names only one column")
    decimal = "," if delimiter == ";" and "," in text.partition("\n")[2][:2000] else "."
    return pa_csv.read_csv(
        io.BytesIO(text.encode()),
        parse_options=pa_csv.ParseOptions(delimiter=delimiter),
        convert_options=pa_csv.ConvertOptions(
            decimal_point=decimal,
            timestamp_parsers=[pa_csv.ISO8601, "%d.%m.%Y %H:%M:%S", "%d/%m/%Y %H:%M:%S", "%Y/%m/%d %H:%M:%S"],
        ),
    )


def _column(name: str, values: pa.ChunkedArray) -> Column:
    kind = values.type
    shown = tuple(str(value) for value in values[:SHOWN].to_pylist())
    if pa.types.is_timestamp(kind) or pa.types.is_date(kind):
        return Column(name, "time", True, shown)
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        numbers = _floats(values)
        known = numbers[np.isfinite(numbers)]
        grows = known.size > 1 and bool((np.diff(known) >= 0).all()) and bool(known[-1] > known[0])
        return Column(name, "number", grows, shown)
    return Column(name, "text", False, shown)


def _named(table: pa.Table, column: str, field: str) -> pa.ChunkedArray:
    if column not in table.column_names:
        known = ", ".join(table.column_names[:12])
        raise TableError(field, f"there is no column {column!r}.", f"There are {known}.")
    return table[column]


def _numbers(values: pa.ChunkedArray, column: str, field: str) -> FloatArray:
    if not (pa.types.is_integer(values.type) or pa.types.is_floating(values.type)):
        example = str(values[0].as_py())
        mend = "Choose a column of numbers, or of times such as 2026-11-23 10:00:00."
        raise TableError(field, f"the column {column!r} holds {example!r}, which is no number.", mend)
    return _floats(values)


def _floats(values: pa.ChunkedArray) -> FloatArray:
    return np.asarray(values.cast(pa.float64(), safe=False).to_numpy(), dtype=np.float64)
