"""How surely is a percentile of a level known?

Blocks of seconds are the unit, as requests near each other are alike. The share of answers up to the percentile is a
ratio over blocks with a standard error (Cochran 1977); the shares at the ends of its interval, read off the same
distribution, are the ends of the percentile's (Woodruff 1952). The interval is one of log odds, so that it stays
between none and all.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from scipy import special

from stonekettle.core.histogram import cropped, percentile_s
from stonekettle.core.types import FloatArray

CONFIDENCE = 0.90
LEAST_BLOCKS = 3


def intervals_s(blocks: FloatArray, percents: Sequence[float]) -> dict[str, tuple[float, float]]:
    """The 90 % interval (s) of each percentile by its name ("p95"), from the histograms of blocks, shape (k, BUCKETS);
    ``percents`` from the lowest on. None with fewer than three blocks, or where nothing lies beyond the upper end."""
    counts, first = cropped(blocks)
    each = counts.sum(axis=1)
    each, counts = each[each > 0], counts[each > 0]
    k, total = len(each), float(each.sum())
    if k < LEAST_BLOCKS:
        return {}
    merged = np.zeros(blocks.shape[1])
    merged[first : first + counts.shape[1]] = counts.sum(axis=0)
    below = np.cumsum(counts, axis=1)
    rank = np.cumsum(counts.sum(axis=0))
    reach = float(special.stdtrit(k - 1, (1 + CONFIDENCE) / 2))
    found, bursts = {}, 0.5
    for percent in percents:
        share = percent / 100
        at = int(np.searchsorted(rank, share * total))
        # The bucket that holds the percentile counts for the part of it that lies below.
        inside = counts[:, at]
        part = 1 - (rank[at] - share * total) / max(float(inside.sum()), 1.0)
        off = below[:, at] - inside * (1 - part) - share * each
        se = math.sqrt(k / (k - 1) * float((off**2).sum())) / total
        # Of rare answers few blocks tell how they come in bursts: no less so than those more frequent.
        alone = math.sqrt(share * (1 - share) / total)
        bursts = max(bursts, se / alone)
        se = bursts * alone
        odds, wide = math.log(share / (1 - share)), reach * se / (share * (1 - share))
        low, high = (1 / (1 + math.exp(-(odds + sign * wide))) for sign in (-1, 1))
        if high < 1 - 0.5 / total:
            found[f"p{percent:g}"] = (percentile_s(merged, 100 * low), percentile_s(merged, 100 * high))
    return found
