"""Does throughput fall beyond a peak, and how high was that?"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from scipy import special

from stonekettle.core.types import Estimate, FloatArray

RETROGRADE_DROP = 0.10
RETROGRADE_DEVIATIONS = 3.0
COLLAPSE = 0.25
"""Throughput that falls by so much within two levels falls at once."""
PEAK_ABOVE, PEAK_AT_MOST = 0.15, 0.7
"""The peak between two levels lies so much of the way up to what bounds it there, and no more (found in simulation)."""
FULL_AT_MOST, FULL_BELOW = 1.0, 0.05
"""Where a resource is full beyond it, it may lie all the way up; and lower than the highest level by so much, as a
level may last shorter than the system takes to fall."""


@dataclass(frozen=True)
class Retrograde:
    """Throughput fell by ``drop`` (share) from its peak at ``peak_load``, ``deviations`` SEs."""

    peak_load: float
    peak_throughput: float
    drop: float
    deviations: float


def retrograde(loads: FloatArray, rate: FloatArray, se: FloatArray) -> Retrograde | None:
    peak, last = int(np.argmax(rate)), len(rate) - 1
    if peak == last:
        return None
    drop = 1 - rate[last] / rate[peak]
    deviations = (rate[peak] - rate[last]) / np.hypot(se[peak], se[last])
    if drop <= RETROGRADE_DROP or deviations <= RETROGRADE_DEVIATIONS:
        return None
    return Retrograde(float(loads[peak]), float(rate[peak]), float(drop), float(deviations))


def peak(
    loads: FloatArray, rate: FloatArray, se: FloatArray, ceiling: float | None, initial: float, *, full: bool
) -> tuple[Estimate, Estimate]:
    """The peak of throughput and its place.

    Where throughput falls at once, within two levels, the peak may lie anywhere between: it is at least what the
    highest level had, and at most what the load of the fallen one would bring, or the hardware's ceiling, which it may
    reach if that is ``full`` beyond it. Where it falls gently, a parabola through the levels around the highest tells
    it.
    """
    top = int(np.argmax(rate))
    reach = float(special.stdtrit(4, 0.95)) * float(se[top])
    highest = float(rate[top])
    fallen = top + 1 + int(np.argmax(np.append(rate[top + 1 :] < (1 - COLLAPSE) * highest, True)))
    place = Estimate(float(loads[top]), float(loads[max(top - 1, 0)]), float(loads[min(top + 1, len(loads) - 1)]))
    if fallen - top <= 2 and fallen < len(rate):
        place = Estimate(float(loads[top]), float(loads[top]), float(loads[fallen]))
        bound = initial * place.high if ceiling is None else min(initial * place.high, ceiling)
        # A curve that was flat already has no higher peak beyond.
        rising = (highest - float(rate[top - 1])) / (initial * float(loads[top] - loads[top - 1])) if top else 1.0
        room = max(0.0, bound - highest) * min(max(rising, 0.0), 1.0)
        most, below = (FULL_AT_MOST, FULL_BELOW) if full else (PEAK_AT_MOST, 0.0)
        low, high = highest - max(reach, below * highest), highest + max(most * room, reach)
        return Estimate(highest + PEAK_ABOVE * room, max(0.0, low), high), place
    around = slice(max(0, top - 2), top + 3)
    x, weight = (loads[around] - loads[top]) / loads[top], 1 / np.maximum(se[around], 0.01 * highest) ** 2
    if x.size < 4:
        return Estimate(highest, max(0.0, highest - reach), highest + reach), place
    design = np.stack([np.ones_like(x), x, x**2])
    covariance = np.linalg.inv(design * weight @ design.T)
    shape = covariance @ (design * weight @ rate[around])
    at = float(np.clip(-shape[1] / (2 * shape[2]), x[0], x[-1])) if shape[2] < 0 else 0.0
    powers = np.array([1.0, at, at**2])
    value = float(powers @ shape)
    off = float(((rate[around] - design.T @ shape) ** 2 * weight).sum()) / (x.size - 3)
    reach = float(special.stdtrit(4, 0.95)) * math.sqrt(float(powers @ covariance @ powers) * max(1.0, off))
    where = min(max(float(loads[top] * (1 + at)), place.low), place.high)
    return Estimate(value, max(0.0, value - reach), value + reach), replace(place, value=where)
