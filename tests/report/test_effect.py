"""Sentences on what came of a change, each true of the figures."""

from __future__ import annotations

from dataclasses import replace

from stonekettle.core.effect import Effect
from stonekettle.core.types import Estimate
from stonekettle.report.effect import sentence

FELL = Effect(90.0, 0.4, 0.8, Estimate(0.5, 0.45, 0.55, 0.95), Estimate(0.6, 0.5, 0.72, 0.95), 3000, 0, 1.0)


def test_it_says_by_how_much_times_fell_or_rose() -> None:
    told = sentence(FELL, done=True)
    assert "The 95th percentile fell by 40 % (95 % interval −50 % to −28 %), from 800 ms" in told
    assert "No step failed meanwhile." in told
    rose = replace(FELL, p95=Estimate(1.3, 1.1, 1.5, 0.95))
    assert "rose by 30 %" in sentence(rose, done=True)


def test_it_claims_no_more_than_the_interval_bears() -> None:
    unsure = replace(FELL, p95=Estimate(0.9, 0.7, 1.2, 0.95))
    assert "did not change for sure" in sentence(unsure, done=True)
    same = replace(FELL, p95=Estimate(1.0, 0.97, 1.03, 0.95))
    assert "stayed as it was" in sentence(same, done=True)


def test_failures_another_load_and_what_is_not_known_yet_are_said() -> None:
    assert "40 steps of 3 000 failed meanwhile" in sentence(replace(FELL, failed=40), done=True)
    assert "Load was 50 % more after it" in sentence(replace(FELL, other_load=1.5), done=True)
    assert "not settled yet" in sentence(replace(FELL, settled_s=None, mean=None, p95=None), done=True)
    assert "too little was measured before it" in sentence(None, done=True)
    assert sentence(None, done=False) == ""
