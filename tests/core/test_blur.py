"""What measuring did: sound, blurred, or too much for a claim."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core import blur
from stonekettle.core.levels import measure
from stonekettle.core.orders import PlannedLevel
from stonekettle.core.run_data import Reasons, RunData
from tests.conftest import steady_run

LEVEL = [PlannedLevel(0, 60, 100)]


def assessed(run: RunData, *withheld: str) -> blur.Measuring:
    return blur.assess(run, measure(run, LEVEL), withheld)


def test_a_quiet_generator_measures_soundly() -> None:
    found = assessed(steady_run())
    assert (found.verdict, found.shift, found.p95_blur_s, found.stalls) == ("sound", 0, 0, 0)
    assert found.seconds == 60


def test_overdue_and_blind_users_blur_the_load() -> None:
    run = replace(steady_run(), overdue=np.full(60, 0.8), blind=np.full(60, 0.4))
    found = assessed(run)
    assert found.verdict == "blurred"
    assert found.shift == pytest.approx(0.012)


def test_a_busy_core_and_a_greedy_host_are_reasons_and_no_verdict() -> None:
    reasons = Reasons(np.full(60, 0.97), np.full(60, 0.2), np.full(60, 0.3), np.full(60, 900.0))
    found = assessed(replace(steady_run(), reasons=reasons))
    assert found.verdict == "sound"
    assert (found.cpu, found.run_queue, found.stolen, found.switches) == pytest.approx((0.97, 0.2, 0.3, 900))


def test_a_withheld_claim_makes_a_run_not_trustworthy_and_is_named() -> None:
    found = assessed(steady_run(), "comfort limit")
    assert found.verdict == "not trustworthy"
    assert found.withheld == ("comfort limit",)


def test_stalls_are_counted_and_told_by_the_second() -> None:
    run = replace(steady_run(), stalls=np.array([[10.5, 12.25], [20.0, 20.1]]))
    found = assessed(run)
    assert (found.stalls, found.stalled_s, found.longest_stall_s) == pytest.approx((2, 1.85, 1.75))
    assert run.stalled_s[9:14].tolist() == pytest.approx([0, 0.5, 1.0, 0.25, 0])
    assert run.stalled_s.sum() == pytest.approx(1.85)


def test_a_run_without_levels_tells_its_shortfall_over_all() -> None:
    run = replace(steady_run(), overdue=np.full(60, 5.0))
    assert blur.shortfall(run, ()) == pytest.approx(0.05)
