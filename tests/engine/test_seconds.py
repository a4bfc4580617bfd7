"""Seconds of several generators put together, in any order, and read as ready figures."""

from __future__ import annotations

import math
from collections.abc import Sequence
from random import Random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.core.run_data import Cell
from stonekettle.engine import records
from stonekettle.engine.rollup import LOW, Second, fold
from stonekettle.engine.seconds import GROUP, LOAD, REQUESTS, Layout, Told, over_time, together

CELLS = (
    Cell("visit", "home", 1.0, group="locals"),
    Cell("visit", "home", 1.0, group="visitors"),
    Cell("buy", "pay", 1.0, group="visitors"),
)
NUMBERS = np.array([[0, -1], [1, 2]])
"""Of each group's cell of each step."""
LAYOUT = Layout(("locals", "visitors"), CELLS, ("north", ""))
BUCKET = 1 / 64
"""The widest bucket of a histogram, as a share of what it holds."""

Done = tuple[int, int, int, bool]
"""Group and step (one of its cells), time in µs, whether it failed."""
done = st.tuples(st.sampled_from([(0, 0), (1, 0), (1, 1)]), st.integers(1, 30_000_000), st.booleans()).map(
    lambda one: (*one[0], one[1], one[2])
)


def told(second: int, rows: Sequence[Done], users: float = 4.0) -> Told:
    made = np.zeros(len(rows), dtype=records.RECORD)
    for place, (group, step, total, failed) in enumerate(rows):
        made[place]["group"], made[place]["step"], made[place]["total_us"] = group, step, total
        made[place]["error"], made[place]["blind_us"] = int(failed), total // 3
    counted = Second(
        second, users, 1.0, 0.5, 0.1, 0.001, 0.1, 0.0, 0.0, 0.0, [1, 2, 3], present=[users / 4, 3 * users / 4]
    )
    folded, histograms = fold(counted, made, NUMBERS)
    return Told(folded.as_dict(), histograms)


def figures(one: Told) -> dict[str, float]:
    (row,) = LAYOUT.table([LAYOUT.row(one, 9.0, [4.0, 5.0])])
    names = [*LOAD, *(f"{i}.{name}" for i in range(2) for name in GROUP)]
    names += [f"{selection.id}.{name}" for selection in LAYOUT.selections for name in REQUESTS]
    return dict(zip(names, row, strict=True))


@given(st.lists(st.lists(done, max_size=25), min_size=1, max_size=4), st.randoms())
def test_figures_of_any_selection_are_those_of_the_requests_themselves(parts: list[list[Done]], random: Random) -> None:
    whole = merged_by_chance([told(7, rows) for rows in parts], random)
    found, rows = figures(whole), [row for part in parts for row in part]
    chosen = {
        "all": rows,
        "group:0": [row for row in rows if row[0] == 0],
        "group:1": [row for row in rows if row[0] == 1],
        "journey:0": [row for row in rows if row[1] == 0],
        "journey:1": [row for row in rows if row[1] == 1],
        "step:0": [row for row in rows if row[1] == 0],
        "step:1": [row for row in rows if row[1] == 1],
        "region:0": [row for row in rows if row[0] == 0],
        "region:1": [row for row in rows if row[0] == 1],
    }
    assert [selection.id for selection in LAYOUT.selections] == list(chosen)
    for name, own in chosen.items():
        times = sorted(total for *_, total, failed in own if not failed)
        assert found[f"{name}.completed"] == len(own)
        assert found[f"{name}.errors"] == len(own) - len(times)
        assert found[f"{name}.response_sum_s"] == pytest.approx(sum(times) / 1e6, rel=1e-5)
        for percent in (50, 95, 99):
            value = found[f"{name}.p{percent}"]
            if not times:
                assert math.isnan(value)
                continue
            direct = times[math.ceil(len(times) * percent / 100) - 1] / 1e6
            assert value == pytest.approx(direct, rel=1.001 * BUCKET, abs=1.01e-6)


def test_a_row_from_before_regions_were_told_apart_is_read_all_the_same() -> None:
    row = LAYOUT.row(together([told(7, [(0, 0, 900, False), (1, 1, 800, False)])]), 9.0, [4.0, 5.0])
    older = Layout(LAYOUT.groups, LAYOUT.cells, ("", ""))
    assert [one.id for one in LAYOUT.selections if one not in older.selections] == ["region:0", "region:1"]
    found = LAYOUT.table([row[: 4 * older.width], row])
    assert np.array_equal(found[0, : older.width], found[1, : older.width], equal_nan=True)
    assert np.isnan(found[0, older.width :]).all()
    assert found[1, LAYOUT.requests(len(LAYOUT.selections) - 1, "completed")] == 1


@given(st.lists(st.lists(done, max_size=10), min_size=1, max_size=4), st.randoms())
def test_putting_together_does_not_depend_on_what_came_first(parts: list[list[Done]], random: Random) -> None:
    seconds = [told(7, rows) for rows in parts]
    whole = merged_by_chance(seconds, random)
    assert figures(whole) == pytest.approx(figures(together(seconds)), nan_ok=True, rel=1e-5)
    assert whole.histograms == together(seconds).histograms
    assert whole.rollup["users"] == pytest.approx(4.0 * len(parts))
    # Blindness makes another lower end for every time but the shortest.
    assert {key & ~LOW for key in whole.histograms} == {key for key in whole.histograms if key < LOW}


def merged_by_chance(parts: Sequence[Told], random: Random) -> Told:
    """Put together one after the other or in heaps, as they come."""
    left = list(parts)
    while len(left) > 1:
        random.shuffle(left)
        count = random.randint(2, len(left))
        left = [together(left[:count]), *left[count:]]
    return together(left)


def test_ten_seconds_are_the_sum_of_their_requests_and_the_mean_of_their_users() -> None:
    seconds = [told(t, [(0, 0, 1_000 * (t + 1), False)], users=float(t)) for t in range(10)]
    ten = over_time(seconds, 0)
    found = figures(ten)
    assert (found["seconds"], found["users"], found["all.completed"], found["all.started"]) == (10, 4.5, 10, 60)
    assert found["all.p50"] == pytest.approx(0.005, rel=BUCKET)
    assert (found["0.present"], found["1.present"]) == (pytest.approx(4.5 / 4), pytest.approx(4.5 * 0.75))
    sixty = over_time([ten, over_time([told(10, [], users=30.0)], 10)], 0)
    assert figures(sixty)["users"] == pytest.approx((45 + 30) / 11)
    assert figures(sixty)["seconds"] == 11


def test_seconds_of_older_runs_have_steps_for_requests_and_no_groups() -> None:
    new = told(0, [(0, 0, 1_000, False)])
    gone = (
        "requests",
        "present",
        "arrived",
        "turned_away",
        "journeys",
        "blind",
        "handled",
        "stalls",
        "timings",
        "hidden_gap_p99_s",
    )
    old = Told({name: value for name, value in new.rollup.items() if name not in gone}, new.histograms)
    found = together([old])
    assert found.rollup["requests"] == [1, 0, 0]
    assert (figures(found)["users"], figures(found)["blind"]) == (4, 0)
