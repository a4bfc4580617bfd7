"""Generator health: late starts, cpu and users off the plan."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from stonekettle.core import health
from tests.conftest import steady_run


def test_a_quiet_generator_is_good() -> None:
    found = health.assess(steady_run())
    assert found.verdict == "good"
    assert found.strained_seconds == 0


def test_one_late_start_among_many_is_no_strain() -> None:
    late = np.zeros(60)
    late[20] = 1
    assert not health.strained(replace(steady_run(), late_starts=late)).any()


def test_many_late_starts_mark_only_their_seconds() -> None:
    late = np.zeros(60)
    late[20:22] = 20
    marked = health.strained(replace(steady_run(), late_starts=late))
    assert np.flatnonzero(marked).tolist() == [20, 21]


def test_busy_generators_are_watched_and_full_ones_strained() -> None:
    run = steady_run()
    assert health.assess(replace(run, generator_cpu=np.full(60, 0.7))).verdict == "watch"
    assert health.assess(replace(run, generator_cpu=np.full(60, 0.9))).verdict == "strained"


def test_users_off_the_plan_by_more_than_two_percent_are_marked() -> None:
    run = steady_run()
    users = run.users.copy()
    users[10] = 97
    users[11] = 99
    assert np.flatnonzero(health.off_plan(replace(run, users=users))).tolist() == [10]
