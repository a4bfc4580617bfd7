"""By how much is another clock off? Found by aligning what it recorded with the load.

Server metrics rise and fall with the load; the shift under which they do so best is the offset.
For every shift the load is averaged over each sample's own interval, so that coarse samples align
as well as fine ones, and Pearson's correlation (1895) is taken over all samples near the run. Before
and after the run the load counts as zero: stairs alone look alike when shifted by a step, their
beginning and end do not.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from stonekettle.core.types import CoreInputError, FloatArray

MIN_SAMPLES = 8
MIN_COVER = 0.5
CLEAR = 0.7
"""A correlation below this is no match worth proposing."""


@dataclass(frozen=True)
class Alignment:
    """``offset_s`` is how far the other clock is ahead; ``correlation`` its strength, 0..1."""

    offset_s: float
    correlation: float

    @property
    def is_clear(self) -> bool:
        return self.correlation >= CLEAR


def align(
    times: FloatArray, values: FloatArray, load: FloatArray, reach_s: float, step_s: float = 1.0
) -> Alignment | None:
    """The offset within ± ``reach_s`` under which ``values`` follow the ``load`` best.

    ``times`` (s since the run's start, increasing) and ``values`` have shape (k,); ``load`` has one
    entry per second. None when too few samples fall within the run, or nothing varies.
    """
    if times.shape != values.shape:
        raise CoreInputError("times and values must have the same shape")
    known = np.isfinite(values) & np.isfinite(times) & (times >= -reach_s) & (times <= load.size + reach_s)
    times, values = times[known], values[known]
    if times.size < MIN_SAMPLES or load.size < MIN_SAMPLES:
        return None
    area = np.concatenate(([0.0], np.cumsum(np.nan_to_num(load))))
    seconds = np.arange(area.size, dtype=np.float64)
    length = float(np.median(np.diff(times)))
    best: Alignment | None = None
    for offset in np.arange(-reach_s, reach_s + step_s / 2, step_s):
        ends = times - offset
        inside = int(((ends - length >= 0) & (ends <= load.size)).sum())
        if inside < MIN_SAMPLES or inside * length < MIN_COVER * load.size:
            continue
        mean = (np.interp(ends, seconds, area) - np.interp(ends - length, seconds, area)) / length
        found = _correlation(mean, values)
        if best is None or abs(found) > best.correlation + 1e-12:
            best = Alignment(float(offset), abs(found))
    return best


def _correlation(x: FloatArray, y: FloatArray) -> float:
    dx, dy = x - x.mean(), y - y.mean()
    scale = float(np.sqrt((dx * dx).sum() * (dy * dy).sum()))
    return float((dx * dy).sum()) / scale if scale > 0 else 0.0
