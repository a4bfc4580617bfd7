"""A minute of request records as one Parquet file, small and quick to search.

Records lie in order of the second that counted them and of their start. Times that lie close to another one are kept
as the difference from it, and each column as the encoding that suits it: 12 to 14 bytes a record.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.parquet as pq

from stonekettle.core.types import IntArray
from stonekettle.engine.records import RECORD, SCHEMA, Records

LEVEL = 9
STORED: pa.Schema = pa.schema(
    [
        ("second", pa.uint32()),
        ("start_us", pa.int64()),
        ("lag_us", pa.int64()),
        *[SCHEMA.field(name) for name in SCHEMA.names if name not in ("scheduled_us", "start_us", "total_us")],
        ("rest_us", pa.int64()),
    ]
)
"""What is stored: ``lag_us`` from due to start in place of when it was due, ``rest_us`` from the first byte to the
end in place of the total."""
_SPREAD = ("second", "start_us", "lag_us", "first_byte_us", "rest_us", "hidden_gap_us", "blind_us")
"""Columns of many values; the others have few, and are kept by a dictionary of them."""
_FEW = [name for name in STORED.names if name not in _SPREAD]
TABLE = pa.schema([pa.field("second", pa.uint32()), *SCHEMA])
"""What a bundle is read as: the second of the run that counted it, and the record's fields."""


@dataclass(frozen=True)
class Packed:
    """A bundle with what tells whether it holds anything wanted: its seconds, the slowest total (µs), the number of
    failures, and the steps in it."""

    data: bytes
    rows: int
    first_second: int
    last_second: int
    slowest_us: int
    errors: int
    steps: list[int]


def pack(records: Sequence[Records], seconds: Sequence[int]) -> Packed:
    """Records of several seconds, each with the second it belongs to, as one bundle; there must be some."""
    stored = columns(records, seconds)
    table = pa.table([pa.array(stored[field.name], type=field.type) for field in STORED], schema=STORED)
    sink = pa.BufferOutputStream()
    encodings = dict.fromkeys(_SPREAD, "DELTA_BINARY_PACKED")
    pq.write_table(
        table, sink, compression="zstd", compression_level=LEVEL, use_dictionary=_FEW, column_encoding=encodings
    )
    return Packed(
        data=sink.getvalue().to_pybytes(),
        rows=len(table),
        first_second=int(stored["second"].min()),
        last_second=int(stored["second"].max()),
        slowest_us=int((stored["first_byte_us"].astype(np.int64) + stored["rest_us"]).max()),
        errors=int((stored["error"] > 0).sum()),
        steps=np.unique(stored["step"]).tolist(),
    )


def columns(records: Sequence[Records], seconds: Sequence[int]) -> dict[str, IntArray]:
    """Records of several seconds, each with the second it belongs to, as columns of :data:`STORED`, in order."""
    own = {name: np.concatenate([_column(part, name) for part in records]) for name in RECORD.names or ()}
    second = np.repeat(np.array(seconds, dtype=np.uint32), [len(part) for part in records])
    order = np.lexsort((own["start_us"], second))
    own = {name: column[order] for name, column in own.items()}
    first_byte = own["first_byte_us"].astype(np.int64)
    figures: dict[str, Any] = {
        "second": second[order],
        "lag_us": own["start_us"].astype(np.int64) - own["scheduled_us"].astype(np.int64),
        "rest_us": own["total_us"].astype(np.int64) - first_byte,
        **own,
    }
    return {name: figures[name] for name in STORED.names}


def read(data: bytes) -> pa.Table:
    """A bundle's records as a table of :data:`TABLE`."""
    table = pq.read_table(pa.BufferReader(data))
    return restored({name: table[name].to_numpy() for name in table.column_names})


def restored(columns: Mapping[str, npt.NDArray[Any]]) -> pa.Table:
    """Stored columns as the record's own."""
    stored = dict(columns)
    stored["scheduled_us"] = stored["start_us"] - stored["lag_us"]
    stored["total_us"] = stored["first_byte_us"].astype(np.int64) + stored["rest_us"]
    return pa.table([pa.array(stored[field.name], type=field.type) for field in TABLE], schema=TABLE)


def _column(records: Records, name: str) -> IntArray:
    """A field of records; older runs did not tell all of them."""
    if name in (records.dtype.names or ()):
        return np.ascontiguousarray(records[name])
    return np.zeros(len(records), dtype=RECORD[name])
