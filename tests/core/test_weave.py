"""Who waited when, as bins of time."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.core.weave import FAILED, weave

STEPS = st.lists(
    st.tuples(st.integers(1, 4), st.floats(0, 20), st.floats(0.001, 8), st.booleans()), min_size=1, max_size=30
)


def woven(steps: list[tuple[int, float, float, bool]], since: float = 5.0, until: float = 15.0, bins: int = 20):  # type: ignore[no-untyped-def]
    who, start, took, failed = (np.array(column) for column in zip(*steps, strict=True))
    return weave(who, start, start + took, failed.astype(np.int64), since=since, until=until, bins=bins)


def test_one_step_fills_its_bins_by_how_much_of_them_it_took() -> None:
    found = woven([(7, 6.0, 1.25, False)])
    assert found.users.tolist() == [7]
    assert found.cells[0].tolist() == [0, 0, 9, 9, 5, *[0] * 15]


def test_a_failed_step_is_marked_where_it_ended_and_one_outside_is_not_there() -> None:
    found = woven([(1, 6.0, 1.1, True), (2, 0.0, 1.0, False), (3, 14.0, 30.0, True)])
    assert found.users.tolist() == [1, 3]
    assert np.flatnonzero(found.cells[0] == FAILED).tolist() == [4]
    assert FAILED not in found.cells[1], "it has not ended yet"
    assert found.cells[1][-2:].tolist() == [9, 9]


@given(STEPS)
def test_a_bin_is_marked_where_and_only_where_somebody_waited(steps: list[tuple[int, float, float, bool]]) -> None:
    found = woven(steps)
    edges = np.linspace(5, 15, 21)
    for row, user in zip(found.cells, found.users, strict=True):
        for k in range(20):
            there = any(
                w == user and start < edges[k + 1] - 1e-9 and start + took > edges[k] + 1e-9
                for w, start, took, _ in steps
            )
            touches = any(
                w == user and start <= edges[k + 1] + 1e-9 and start + took >= edges[k] - 1e-9
                for w, start, took, _ in steps
            )
            assert not there or row[k] > 0
            assert touches or row[k] == 0
