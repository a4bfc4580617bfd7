"""Metrics in files of many habits."""

from __future__ import annotations

import io
from datetime import UTC, datetime, timedelta

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from stonekettle.meters.table_file import TableError, best_alignment, columns, read, times, values

ZERO = datetime(2026, 11, 23, 9, 0, tzinfo=UTC)
MOMENTS = [ZERO + timedelta(seconds=s) for s in (1, 2, 3)]


def table(text: str) -> pa.Table:
    return read("m.csv", text.encode())


def seconds(text: str, column: str = "time", zone: str = "UTC") -> list[float]:
    return times(table(text), column, zone, ZERO.timestamp()).tolist()


@pytest.mark.parametrize(
    "text",
    [
        "time,cpu\n2026-11-23T09:00:01Z,1\n2026-11-23T09:00:02Z,2\n",
        "time,cpu\n2026-11-23 09:00:01,1\n2026-11-23 09:00:02,2\n",
        "time;cpu\n23.11.2026 09:00:01;1,5\n23.11.2026 09:00:02;2,5\n",
        f"time\tcpu\n{ZERO.timestamp() + 1:.0f}\t1\n{ZERO.timestamp() + 2:.0f}\t2\n",
        f"time,cpu\n{ZERO.timestamp() * 1e3 + 1000:.0f},1\n{ZERO.timestamp() * 1e3 + 2000:.0f},2\n",
        f"time,cpu\n{int(ZERO.timestamp() + 1) * 10**9},1\n{int(ZERO.timestamp() + 2) * 10**9},2\n",
        "time,cpu\n1,1\n2,2\n",
        "\ufefftime,cpu\r\n2026-11-23T09:00:01Z,1\r\n2026-11-23T09:00:02Z,2\r\n",
    ],
    ids=["zoned", "zoneless", "semicolons", "epoch", "milliseconds", "nanoseconds", "elapsed", "mark"],
)
def test_times_are_read_as_people_and_machines_write_them(text: str) -> None:
    assert seconds(text) == pytest.approx([1, 2])


def test_zoneless_times_are_in_the_zone_given() -> None:
    text = "time,cpu\n2026-11-23 10:00:01,1\n2026-11-23 10:00:02,2\n"
    assert seconds(text, zone="Europe/Berlin") == pytest.approx([1, 2])
    with pytest.raises(TableError, match="not a time zone") as error:
        seconds(text, zone="Atlantis/Harbour")
    assert error.value.field == "zone"


def test_decimal_commas_and_empty_cells_are_understood() -> None:
    found = values(table("time;cpu\n1;1,5\n2;\n3;2,5\n"), "cpu")
    np.testing.assert_allclose(found, [1.5, np.nan, 2.5])


def test_columns_tell_what_they_can_be() -> None:
    found = columns(table("at,busy_s,host,cpu\n2026-11-23 09:00:01,5,a,0.5\n2026-11-23 09:00:02,7,a,0.25\n"))
    assert [(c.name, c.role, c.grows) for c in found] == [
        ("at", "time", True),
        ("busy_s", "number", True),
        ("host", "text", False),
        ("cpu", "number", False),
    ]
    assert found[3].shown == ("0.5", "0.25")


def test_parquet_is_read_too() -> None:
    out = io.BytesIO()
    made = {"at": pa.array(MOMENTS, pa.timestamp("ms", "UTC")), "cpu": [0.1, 0.2, 0.3]}
    pq.write_table(pa.table(made), out)
    found = read("m.parquet", out.getvalue())
    assert times(found, "at", "UTC", ZERO.timestamp()).tolist() == pytest.approx([1, 2, 3])
    assert values(found, "cpu").tolist() == [0.1, 0.2, 0.3]


@pytest.mark.parametrize(
    ("content", "part"),
    [
        (b"", "is empty"),
        (b"only one column\n1\n2\n", "cannot be read"),
        (b"a,b\n1,2\n1,2,3\n", "cannot be read"),
        (b"a,b\n", "0 row"),
        (b"PAR1broken", "cannot be read"),
        (b"x" * 25_000_001, "over 25 MB"),
    ],
)
def test_files_that_cannot_be_used_are_refused_with_a_reason(content: bytes, part: str) -> None:
    with pytest.raises(TableError, match=part):
        read("m.csv", content)


def test_wrong_columns_are_named() -> None:
    found = table("time,host\n1,a\n2,b\n")
    with pytest.raises(TableError, match="there is no column 'cpu'"):
        values(found, "cpu")
    with pytest.raises(TableError, match="'a', which is no number"):
        values(found, "host")


def test_the_clock_is_found_from_whichever_column_follows_the_load() -> None:
    load = np.repeat(np.arange(1.0, 9.0) * 20, 20)
    at = np.arange(160.0) + 1 + 30
    busy = np.cumsum(load / 200)
    noise = np.random.default_rng(3).normal(size=160)
    found = best_alignment(at, [noise, busy], [False, True], load)
    assert found is not None
    assert found.offset_s == pytest.approx(30, abs=1.5)


@pytest.mark.parametrize("zone", ["Europe", "America/Argentina", "nowhere", "../etc", "", "\0"])
def test_folders_and_nonsense_are_no_time_zones(zone: str) -> None:
    with pytest.raises(TableError, match="is not a time zone"):
        seconds("time,cpu\n2026-11-23 09:00:01,1\n2026-11-23 09:00:02,2\n", zone=zone)


def test_columns_of_the_same_name_are_refused() -> None:
    with pytest.raises(TableError, match="two columns 'cpu'"):
        table("time,cpu,cpu\n1,1,1\n2,2,2\n")


def test_a_small_file_that_unfolds_to_gigabytes_is_refused_before_it_does() -> None:
    written = io.BytesIO()
    rows = pa.table({f"c{i}": pa.array(np.zeros(1_000_000)) for i in range(12)})
    pq.write_table(rows, written, compression="zstd")
    assert len(written.getvalue()) < 1_000_000
    with pytest.raises(TableError, match="1000000 rows of 12 columns"):
        read("bomb.parquet", written.getvalue())
