"""Seconds folded and put together again."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core.histogram import percentile_s
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import Cell
from stonekettle.engine import records, rollup
from stonekettle.engine.rollup import LOW, Second, StoredSecond, assemble, fold, pack_histograms, unpack_histograms
from stonekettle.engine.seconds import Told, over_time, together

CELLS = (Cell("visit", "home", 1.0), Cell("visit", "board", 1.0))
NUMBERS = np.array([[0, 1]])
ORDERED = as_planned(LoadProfile((Segment.hold(10, 3),)))


def second(number: int, **changes: object) -> Second:
    values: dict[str, object] = {
        "second": number, "users": 5.0, "in_flight": 1.0, "overdue": 0.0, "start_gap_s": 0.1, "lag_p99_s": 0.001,
        "cpu": 0.1, "run_queue": 0.0, "stolen": 0.0, "switches": 0.0, "started": [2, 1],
    }  # fmt: skip
    return Second(**{**values, **changes})  # type: ignore[arg-type]


def made(rows: list[tuple[int, int, int, int]]) -> records.Records:
    """Records from (step, status, error, total µs)."""
    found = np.zeros(len(rows), dtype=records.RECORD)
    for i, (step, status, error, total) in enumerate(rows):
        found[i]["step"], found[i]["status"], found[i]["error"], found[i]["total_us"] = step, status, error, total
    return found


def test_folding_counts_by_step_and_keeps_errors_out_of_response_times() -> None:
    folded, histograms = fold(second(0), made([(0, 200, 0, 1000), (0, 503, 1, 10), (1, 200, 0, 3000)]), NUMBERS)
    assert folded.completed == [2, 1]
    assert folded.errors == [1, 0]
    assert folded.response_sum_s == pytest.approx([0.001, 0.003])
    assert folded.error_kinds == {"status 503": 1}
    assert set(histograms) == {0, 1}


def test_both_ends_of_a_response_time_are_folded() -> None:
    rows = made([(0, 200, 0, 20_000), (0, 200, 0, 30_000), (1, 200, 0, 3_000)])
    rows["blind_us"], rows["hidden_gap_us"] = [5_000, 0, 0], [1_000, 0, 0]
    folded, histograms = fold(second(0), rows, NUMBERS)
    assert set(histograms) == {0, 0 | LOW, 1}
    assert folded.blind_sum_s == pytest.approx([0.005, 0])
    assert folded.blind == pytest.approx(0.005)
    assert folded.handled == pytest.approx(0.001)
    run = assemble(CELLS, ORDERED, [StoredSecond("a", folded.as_dict(), histograms)])
    ends = [h.merged(np.ones(1, dtype=bool), [0]) for h in (run.low_histograms, run.histograms)]
    assert [percentile_s(h, 1) for h in ends] == pytest.approx([0.015, 0.020], rel=0.02)
    assert run.overdue[0] == pytest.approx(0.001)


def test_seconds_recorded_before_blindness_was_known_are_still_read() -> None:
    folded, histograms = fold(second(0), made([(0, 200, 0, 1000)]), NUMBERS)
    old = {
        k: v for k, v in folded.as_dict().items() if k not in ("blind", "handled", "blind_sum_s", "stalls", "stolen")
    }
    run = assemble(CELLS, ORDERED, [StoredSecond("a", {**old, "late_starts": 1}, histograms)])
    assert run.blind.tolist() == [0.0]
    assert run.stalls.shape == (0, 2)
    assert percentile_s(run.low_histograms.merged(np.ones(1, dtype=bool)), 50) == pytest.approx(0.001, rel=0.02)


def test_a_second_without_requests_folds_to_zeros() -> None:
    folded, histograms = fold(second(0), made([]), NUMBERS)
    assert folded.completed == [0, 0]
    assert histograms == {}


def test_histograms_pack_and_unpack() -> None:
    blobs = {0: b"abc", 3: b"", 7: b"x" * 300}
    assert unpack_histograms(pack_histograms(blobs)) == blobs


def stored(generator: str, number: int, rows: list[tuple[int, int, int, int]], **changes: object) -> StoredSecond:
    folded, histograms = fold(second(number, **changes), made(rows), NUMBERS)
    return StoredSecond(generator, folded.as_dict(), histograms)


def test_generators_add_up_and_the_worst_lateness_counts() -> None:
    run = assemble(
        CELLS,
        ORDERED,
        [
            stored("a", 0, [(0, 200, 0, 1000)], cpu=0.2, start_gap_s=0.5),
            stored("b", 0, [(1, 200, 0, 9000)], cpu=0.6, start_gap_s=0.2),
        ],
    )
    assert run.users.tolist() == [10.0]
    assert run.completed.tolist() == [[1, 1]]
    assert run.reasons.cpu.tolist() == [0.6]
    assert run.start_gap_s.tolist() == [0.2]
    assert percentile_s(run.histograms.merged(np.ones(1, dtype=bool)), 99) == pytest.approx(0.009, rel=0.02)


def test_nobody_started_for_no_longer_than_the_shortest_gap_of_those_who_start() -> None:
    gaps = {"a": (0.5, [2, 1]), "b": (0.2, [1, 0]), "idle": (0.0, [0, 0])}
    parts = [
        stored(name, 0, [(0, 200, 0, 1000)], start_gap_s=gap, started=begun) for name, (gap, begun) in gaps.items()
    ]
    assert assemble(CELLS, ORDERED, parts).start_gap_s.tolist() == [0.2]
    told = [Told(part.rollup, part.histograms) for part in parts]
    assert together(told).rollup["start_gap_s"] == 0.2
    later = [Told({**one.rollup, "second": k}, one.histograms) for k, one in enumerate(told)]
    assert over_time(later, 0).rollup["start_gap_s"] == 0.5


def test_journeys_add_up_and_are_unknown_where_nobody_told_them() -> None:
    parts = [
        stored("a", 0, [], journeys=[2, 1]),
        stored("b", 0, [], journeys=[0, 4]),
        stored("a", 2, [], journeys=[0, 0]),
    ]
    journeys = assemble(CELLS, ORDERED, parts).journeys
    assert journeys is not None
    np.testing.assert_array_equal(journeys, [7, np.nan, 0])
    assert assemble(CELLS, ORDERED, [stored("a", 0, [])]).journeys is None


def test_a_missing_second_is_a_gap_not_a_zero() -> None:
    run = assemble(CELLS, ORDERED, [stored("a", 0, []), stored("a", 2, [])])
    assert np.isnan(run.users[1])
    assert run.seconds == 3


def test_no_seconds_make_an_empty_run() -> None:
    assert rollup.assemble(CELLS, ORDERED, []).seconds == 0
