"""Records packed into bundles: exactly the same, and small."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.engine import bundles, records


def made(rows: int, seed: int = 1) -> records.Records:
    """Records with anything in any field."""
    random = np.random.default_rng(seed)
    found = np.zeros(rows, dtype=records.RECORD)
    for name in records.RECORD.names or ():
        info = np.iinfo(records.RECORD[name])
        low = -(2**40) if info.min < 0 else 0
        found[name] = random.integers(low, min(info.max, 2**40), rows, dtype=np.int64)
    return found


@pytest.mark.parametrize("rows", [1, 7, 500])
def test_every_field_comes_back_as_it_was(rows: int) -> None:
    parts = [made(rows, seed) for seed in (1, 2)]
    packed = bundles.pack(parts, [4, 3])
    table = bundles.read(packed.data)
    assert (packed.rows, packed.first_second, packed.last_second) == (2 * rows, 3, 4)
    assert packed.slowest_us == max(int(part["total_us"].max()) for part in parts)
    assert packed.errors == sum(int((part["error"] > 0).sum()) for part in parts)
    assert packed.steps == sorted({int(step) for part in parts for step in part["step"]})
    assert table["second"].to_pylist() == [3] * rows + [4] * rows
    back = records.from_table(table)
    for second, part in ((4, parts[0]), (3, parts[1])):
        own = back[back["second"] == second]
        ordered = part[np.argsort(part["start_us"], kind="stable")]
        for name in records.RECORD.names or ():
            assert np.array_equal(own[name], ordered[name]), name


def test_fields_that_older_runs_did_not_record_are_0() -> None:
    old = made(3)[["scheduled_us", "start_us", "user", "step", "status", "error", "flags", "first_byte_us", "total_us"]]
    table = bundles.read(bundles.pack([old], [0]).data)
    assert table["visit"].to_pylist() == [0, 0, 0]
    assert sorted(table["total_us"].to_pylist()) == sorted(int(x) for x in old["total_us"])


def test_traces_lead_to_their_records_and_back() -> None:
    user, visit, step = (np.array(x, dtype=np.uint32) for x in ([0, 7, 9], [1, 65_537, 0], [0, 2, 3]))
    assert records.trace_ids(26, user, visit, step).to_pylist() == [
        records.trace_id(26, 0, 1, 0),
        "0000001a000000070001000100000002",
        None,
    ]
