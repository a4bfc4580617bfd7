"""How soon are many ready that were started at once?

The curve of ready against time is the share of all that were asked for. Stragglers are those far out: later than the
third quartile by over three times the distance between the quartiles (Tukey 1977), and those that never came. Two
storms are compared by the ratio of their times to so many ready, with a percentile bootstrap over the instances (Efron
1979): of one storm each it tells chance among instances, and not what differs from day to day.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from stonekettle.core.types import Estimate, FloatArray, IntArray

SHARES = (50, 90, 99, 100)
FAR_OUT = 3.0
LEAST_FAR = 8
"""Of fewer none is called a straggler for being late."""
RESAMPLED = 400


@dataclass(frozen=True)
class Readiness:
    """Of ``asked`` instances ``ready`` came. ``after_s``: how long it took until so many percent of those asked for
    were ready (s), None where it never came to that. ``stragglers`` are places in what was given, the latest first,
    those that never came before all. ``rate`` is of instances a second between 10 and 90 %."""

    asked: int
    ready: int
    after_s: Mapping[int, float | None]
    stragglers: tuple[int, ...]
    rate: float | None


def readiness(ready_s: FloatArray) -> Readiness:
    """``ready_s`` (n,): when each was ready, since it was asked for (s); NaN: never. Raises :class:`ValueError` for
    none."""
    if not ready_s.size:
        raise ValueError("ready_s: there are no instances.")
    came = np.sort(ready_s[np.isfinite(ready_s)])
    after = {share: _after(came, ready_s.size, share) for share in SHARES}
    low, high = _after(came, ready_s.size, 10), _after(came, ready_s.size, 90)
    rate = 0.8 * ready_s.size / (high - low) if low is not None and high is not None and high > low else None
    return Readiness(ready_s.size, came.size, after, tuple(_stragglers(ready_s, came).tolist()), rate)


def _after(came: FloatArray, asked: int, share: float) -> float | None:
    """When the last of the first so many percent came."""
    needed = max(1, math.ceil(share * asked / 100 - 1e-9))
    return float(came[needed - 1]) if came.size >= needed else None


def _stragglers(ready_s: FloatArray, came: FloatArray) -> IntArray:
    never = np.flatnonzero(~np.isfinite(ready_s))
    if came.size < LEAST_FAR:
        return never
    first, third = np.quantile(came, (0.25, 0.75))
    late = np.flatnonzero(ready_s > third + FAR_OUT * (third - first))
    return np.concatenate([never, late[np.argsort(-ready_s[late], kind="stable")]])


def curve(ready_s: FloatArray, points: int = 300) -> list[tuple[float, int]]:
    """How many were ready by when (s): every step of it, or at so many moments where there are more."""
    came = np.sort(ready_s[np.isfinite(ready_s)])
    if came.size <= points:
        return [(float(at), place) for place, at in enumerate(came, start=1)]
    at = np.unique(np.round(np.linspace(0, came.size - 1, points)).astype(int))
    return [(float(came[place]), int(place) + 1) for place in at]


def compared(first: FloatArray, second: FloatArray, seed: int = 1) -> dict[int, Estimate]:
    """The second storm's times to so many percent ready over the first's, at 95 %; shares that one never came to, or of
    which too many resamples do not, are left out."""
    random = np.random.default_rng(seed)
    found = {}
    for share in SHARES[:-1]:
        times = [_after(np.sort(one[np.isfinite(one)]), one.size, share) for one in (first, second)]
        if not all(times):
            continue
        ratios: Sequence[float] = [
            drawn for _ in range(RESAMPLED) if (drawn := _ratio(first, second, share, random)) is not None
        ]
        if len(ratios) >= 0.9 * RESAMPLED:
            low, high = np.quantile(ratios, (0.025, 0.975))
            found[share] = Estimate(float(times[1] or 0) / float(times[0] or 1), float(low), float(high), 0.95)
    return found


def _ratio(first: FloatArray, second: FloatArray, share: int, random: np.random.Generator) -> float | None:
    drawn = (np.sort(random.choice(one, one.size)) for one in (first, second))  # NaN sorts to the end
    a, b = (_after(one[np.isfinite(one)], one.size, share) for one in drawn)
    return b / a if a and b else None
