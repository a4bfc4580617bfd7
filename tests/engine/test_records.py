"""Packed records and their open formats."""

from __future__ import annotations

import numpy as np

from stonekettle.engine import records


def packed(*totals: int) -> bytes:
    buffer = records.RecordBuffer(room=2)
    for i, total in enumerate(totals):
        memory, offset = buffer.slot()
        records.FORMAT.pack_into(
            memory, offset, i, i, 7, 1, 0, 1, 0, 200, 0, 1, 10, 20, 0, 0, 0, 0, total // 2, total, 0, 3
        )
    return buffer.take()


def test_the_buffer_grows_and_empties() -> None:
    buffer = records.RecordBuffer(room=2)
    for _ in range(5):
        buffer.slot()
    assert len(buffer.take()) == 5 * records.FORMAT.size
    assert buffer.take() == b""


def test_records_are_read_back_as_they_were_packed() -> None:
    found = records.view(packed(1000, 2000, 3000))
    assert found["total_us"].tolist() == [1000, 2000, 3000]
    assert found["first_byte_us"].tolist() == [500, 1000, 1500]
    assert set(found["user"].tolist()) == {7}


def test_chunks_hold_every_field_in_an_open_format() -> None:
    table = records.from_chunk(records.to_chunk(records.view(packed(*range(1000, 1500)))))
    assert table.column_names == list(records.RECORD.names or ())
    assert np.array_equal(table["total_us"].to_numpy(), np.arange(1000, 1500))


def test_chunks_are_compact() -> None:
    chunk = records.to_chunk(records.view(packed(*range(1000, 11_000))))
    assert len(chunk) / 10_000 < 14


def test_status_errors_are_named_by_their_status() -> None:
    assert records.error_name(1, 503) == "status 503"
    assert records.error_name(2, 0) == "connection refused"
