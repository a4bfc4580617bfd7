"""Stalls of the generator: cut out by start where they matter, left alone where they do not."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core import stalls
from stonekettle.core.histogram import percentile_s
from stonekettle.core.levels import measure
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import PlannedLevel, as_planned
from stonekettle.core.stalls import Requests
from stonekettle.practice.twin import Twin, simulate
from stonekettle.practice.unfit import Blocked
from tests.conftest import one_server_system, steady_run, visits

LEVEL = [PlannedLevel(0, 60, 100)]


def windows(*stretches: tuple[float, float], limit: float = 100.0) -> list[list[float]]:
    run = replace(steady_run(), stalls=np.array(stretches, dtype=np.float64).reshape(-1, 2))
    return [list(map(float, row)) for row in stalls.windows(run, measure(run, LEVEL), limit)]


def test_a_window_runs_from_before_the_stall_until_its_queue_has_cleared() -> None:
    # Responses take 0.1 s, 50 of 100 requests/s: half a second's stall clears in another half.
    ((low, high),) = windows((30, 30.5))
    assert low == pytest.approx(29.9, abs=0.01)
    assert high == pytest.approx(31.0, abs=0.01)


def test_a_queue_never_takes_longer_to_clear_than_a_cycle() -> None:
    ((_, high),) = windows((30, 32), limit=51)
    assert high == pytest.approx(34.0, abs=0.01)


def test_what_no_queue_comes_of_is_not_material() -> None:
    assert windows((30, 30.004)) == []


def test_a_stall_shorter_than_the_work_waiting_starves_nobody() -> None:
    run = steady_run(response_s=0.1)
    slow = steady_run(response_s=1.1, think_s=0.9)
    levels = (*measure(run, LEVEL), *measure(slow, LEVEL))
    levels = (replace(levels[0], start_s=0, end_s=0), levels[1])
    for length, count in ((0.9, 0), (1.1, 1)):
        stalled = replace(slow, stalls=np.array([[30, 30 + length]]))
        assert len(stalls.windows(stalled, levels, 50)) == count


def test_windows_that_meet_become_one() -> None:
    assert len(windows((30, 30.5), (31.0, 31.4), (45, 45.5))) == 2


def test_requests_go_by_their_start_and_take_their_times_with_them() -> None:
    run = steady_run(seconds=10, rate=2)
    batch = Requests(
        start_s=np.array([2.9, 3.0, 3.5, 4.1]),
        second=np.array([3, 3, 4, 4]),
        cell=np.zeros(4, dtype=np.int64),
        response_us=np.full(4, 100_000),
        blind_us=np.array([0, 5_000, 0, 0]),
    )
    cut = stalls.without(run, np.array([[3.0, 4.0]]), [batch])
    assert cut.kept is not None
    assert cut.kept.count[:, 0].tolist() == [2, 2, 2, 1, 1, 2, 2, 2, 2, 2]
    assert cut.kept.sum_s[3, 0] == pytest.approx(0.1)
    assert cut.kept.histograms.merged(np.ones(10, dtype=bool)).sum() == 18
    assert cut.histograms is run.histograms


def test_cutting_brings_the_percentile_back() -> None:
    """Stalls of a second each half minute lengthen p95 by a third and more; without them it is as it was."""
    config, think = one_server_system(20, servers=4), 1.0
    profile = LoadProfile((Segment.hold(120, 300),))
    stretches = [(float(t), t + 1.0) for t in range(20, 300, 25)]
    twin = Twin(config, visits(think), loop=Blocked(stretches))
    run, fit = twin.run(as_planned(profile)), simulate(config, visits(think), profile)
    levels = measure(run, as_planned(profile).levels())
    cut = stalls.without(run, stalls.windows(run, levels, 200), [twin.requests()])
    used = levels[0].window(run.seconds).used
    true = percentile_s(fit.histograms.merged(used), 95)
    assert levels[0].p95_s > 1.3 * true
    assert cut.kept is not None
    assert percentile_s(cut.kept.histograms.merged(used), 95) == pytest.approx(true, rel=0.12)
    assert cut.kept.count.sum() > 0.6 * run.times.count.sum()
