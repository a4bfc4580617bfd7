"""What is kept of each request, packed into memory made beforehand."""

from __future__ import annotations

import struct

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from stonekettle.core.stalls import Requests
from stonekettle.core.types import IntArray

ERRORS = (
    "none",
    "status",
    "connection refused",
    "connection lost",
    "time limit",
    "TLS",
    "target not allowed",
    "cut off at the end",
    "other",
    "check",
    "value not found",
)
"""Kinds of error by number. A status error is counted by its status: "status 503"."""

NEW_CONNECTION = 1
PART = 2
"""A request of a step that has several: its main one, one a redirect led to, one that accompanies it."""
WHOLE = 4
"""Not a request: the whole of a step with several, from its start until the last is answered."""
LED_ON = 8
"""It was answered by a redirect, which was followed: the request after it is the next part."""

FORMAT = struct.Struct("<qqIIHHHHBBIIIIIIIIII")
RECORD = np.dtype(
    [
        ("scheduled_us", "<i8"),
        ("start_us", "<i8"),
        ("user", "<u4"),
        ("visit", "<u4"),
        ("group", "<u2"),
        ("step", "<u2"),
        ("part", "<u2"),
        ("status", "<u2"),
        ("error", "u1"),
        ("flags", "u1"),
        ("bytes_out", "<u4"),
        ("bytes_in", "<u4"),
        ("dns_us", "<u4"),
        ("connect_us", "<u4"),
        ("tls_us", "<u4"),
        ("sent_us", "<u4"),
        ("first_byte_us", "<u4"),
        ("total_us", "<u4"),
        ("hidden_gap_us", "<u4"),
        ("blind_us", "<u4"),
    ]
)
"""One request. ``user`` is who sent it, by a number that nobody else has in the run, ``visit`` the how-manyeth
journey of that user's life (from 1), ``part`` the how-manyeth request of its step (from 0; of a whole step 0).
Times in µs: ``scheduled`` and ``start`` since the run's start; the phases from the start of the transfer, cumulative
(dns, connect, tls and sent are 0 on a reused connection).
The true response time lies in [total − blind, total]; ``hidden_gap`` is what the loop took beside it,
before the request left and after its answer was seen."""

assert FORMAT.size == RECORD.itemsize

Records = npt.NDArray[np.void]


class RecordBuffer:
    """Records of the current second. Grows by doubling, is reused for every second."""

    def __init__(self, room: int = 4096) -> None:
        self._memory = bytearray(room * FORMAT.size)
        self.used = 0

    def slot(self) -> tuple[bytearray, int]:
        """Memory and offset for one more record."""
        offset = self.used * FORMAT.size
        if offset == len(self._memory):
            self._memory.extend(bytes(len(self._memory)))
        self.used += 1
        return self._memory, offset

    def take(self) -> bytes:
        """Everything since the last call."""
        data = bytes(memoryview(self._memory)[: self.used * FORMAT.size])
        self.used = 0
        return data


def view(data: bytes) -> Records:
    """Packed bytes as an array of :data:`RECORD`."""
    return np.frombuffer(data, dtype=RECORD)


def error_name(error: int, status: int) -> str:
    """The kind of an error as shown and counted."""
    return f"status {status}" if ERRORS[error] == "status" else ERRORS[error]


SCHEMA = pa.schema([(name, pa.from_numpy_dtype(RECORD[name])) for name in RECORD.names or ()])


def to_batch(records: Records) -> pa.RecordBatch:
    """An Arrow record batch with one column for each field."""
    return pa.record_batch(
        [pa.array(np.ascontiguousarray(records[name])) for name in RECORD.names or ()], schema=SCHEMA
    )


def cells_in(records: Records, numbers: IntArray) -> IntArray:
    """The cell of each record, shape (n,), by :func:`script.cell_numbers`."""
    return np.asarray(numbers[records["group"].astype(np.int64), records["step"].astype(np.int64)], dtype=np.int64)


def to_requests(records: Records, second: IntArray, numbers: IntArray) -> Requests:
    """The steps that succeeded, for the core: wholes, and requests that are a step by themselves. ``second`` is the
    one that counted each record, shape (n,)."""
    wanted = (records["error"] == 0) & (records["flags"] & PART == 0)
    chosen = records[wanted]
    names = chosen.dtype.names or ()
    total = chosen["total_us"].astype(np.int64)
    # Older runs did not record how blind they were.
    blind = chosen["blind_us"].astype(np.int64) if "blind_us" in names else np.zeros_like(total)
    return Requests(
        start_s=chosen["start_us"] / 1e6,
        second=second[wanted].astype(np.int64),
        cell=cells_in(chosen, numbers),
        response_us=total,
        blind_us=np.minimum(blind, total),
    )


def from_table(table: pa.Table) -> Records:
    """The records of a table as an array with its columns."""
    columns = {name: table[name].to_numpy() for name in table.column_names}
    found = np.empty(len(table), dtype=[(name, column.dtype) for name, column in columns.items()])
    for name, column in columns.items():
        found[name] = column
    return found


def to_chunk(records: Records) -> bytes:
    """A compact Arrow stream (zstd) of these records."""
    sink = pa.BufferOutputStream()
    options = pa.ipc.IpcWriteOptions(compression="zstd")
    with pa.ipc.new_stream(sink, SCHEMA, options=options) as writer:
        writer.write_batch(to_batch(records))
    return bytes(sink.getvalue())


def from_chunk(data: bytes) -> pa.Table:
    """The table of :func:`to_chunk`'s bytes."""
    return pa.ipc.open_stream(data).read_all()


def trace_id(seed: int, user: int, visit: int, step: int) -> str:
    """The trace a step belongs to, as its requests tell it (``traceparent``, W3C Trace Context): 32 hexadecimal
    digits that name the run, the user, the visit and the step, so that a trace leads to its records and back."""
    return "".join(trace_parts(seed, user, visit, step))


def is_traced(user: int, visit: int, each: int) -> bool:
    """Whether a visit asks for its traces to be kept, as one in ``each`` does."""
    return (user + visit) % each == 0


def named_by(trace: str) -> tuple[int, int, int, int]:
    """The run, the user, the visit and the step that a trace belongs to if it is one of :func:`trace_id`."""
    run, user, visit, step = (int(trace[at : at + 8], 16) for at in range(0, 32, 8))
    return run, user, visit, step


def trace_parts(seed: int, user: int, visit: int, step: int) -> tuple[str, str, str]:
    """The digits of :func:`trace_id` before those of the visit, those, and the rest."""
    return f"{seed & 0xFFFFFFFF:08x}{user:08x}", f"{visit:08x}", f"{step:08x}"


def trace_ids(seed: int, user: IntArray, visit: IntArray, step: IntArray) -> pa.StringArray:
    """:func:`trace_id` of many; null where no visit was recorded."""
    count = len(user)
    numbers = np.column_stack([np.full(count, seed & 0xFFFFFFFF), user, visit, step]).astype(">u4")
    digits = numbers.tobytes().hex().encode()
    offsets = np.arange(count + 1, dtype=np.int32) * 32
    found = pa.StringArray.from_buffers(count, pa.py_buffer(offsets), pa.py_buffer(digits))
    return pc.if_else(pa.array(visit > 0), found, None)
