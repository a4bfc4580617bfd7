"""Arrivals at a rate that changes: a Poisson process is one, and even ones are even, also when several share them."""

from __future__ import annotations

from random import Random

import numpy as np
import pytest
from scipy import stats

from stonekettle.core.arrivals import ArrivalClock
from stonekettle.core.load_profile import Target


def arrivals(
    target: Target, until: float, *, evenly: bool, share: tuple[int, int] = (0, 1), step: float = 0.01
) -> list[float]:
    """Asked again and again for the next moment, as a generator does."""
    clock, found, t = ArrivalClock(Random(5 + share[0]), evenly=evenly), [], 0.0
    while t < until:
        found += clock.between(t, min(until, t + step), target, 0.0, share)
        t += step
    return found


def test_poisson_gaps_are_exponential_and_counts_vary_as_they_must() -> None:
    found = arrivals(Target.steady(200.0), 60.0, evenly=False)
    assert stats.kstest(np.diff(found) * 200, "expon").pvalue > 0.01
    counts = np.bincount(np.array(found).astype(int), minlength=60)
    assert counts.var() / counts.mean() == pytest.approx(1.0, abs=0.45)


def test_a_rate_that_rises_brings_arrivals_by_its_integral() -> None:
    """Mapped by the integral of the rate, a ramp's arrivals are a Poisson process of rate one."""
    found = np.array(arrivals(Target(50.0, 250.0, 40.0), 40.0, evenly=False))
    mapped = 50 * found + 2.5 * found**2
    assert stats.kstest(np.diff(mapped), "expon").pvalue > 0.01
    assert len(found) == pytest.approx(6_000, abs=250)


@pytest.mark.parametrize("target", [Target.steady(40.0), Target(10.0, 70.0, 20.0), Target(60.0, 20.0, 10.0)])
def test_even_arrivals_are_as_many_as_ordered_at_any_moment(target: Target) -> None:
    found = np.array(arrivals(target, 20.0, evenly=True))
    for t in np.linspace(1, 20, 20):
        steps = np.linspace(0, t, 2_000)
        ordered = np.trapezoid([target.after(float(s)) for s in steps], steps)
        assert abs((found < t).sum() - ordered) <= 1


def test_several_generators_share_even_arrivals_without_gap_or_double() -> None:
    whole = arrivals(Target.steady(30.0), 10.0, evenly=True)
    parts = [arrivals(Target.steady(30.0), 10.0, evenly=True, share=(i, 3)) for i in range(3)]
    assert sorted(moment for part in parts for moment in part) == pytest.approx(whole)
    assert {len(part) for part in parts} == {100}


def test_parts_of_a_poisson_process_together_are_one() -> None:
    parts = [arrivals(Target.steady(100.0), 40.0, evenly=False, share=(i, 3)) for i in range(3)]
    together = np.sort(np.concatenate(parts))
    assert stats.kstest(np.diff(together) * 100, "expon").pvalue > 0.01
