"""How are the response times distributed, in a form that can be merged?

Log-linear buckets over whole microseconds: exact below 128 µs, then 64 equal buckets per octave
up to 10 minutes. Any value is recovered within 0.8 %. Merging is addition, so percentiles of any
window, step or generator come from counts and are never averaged.
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from stonekettle.core.types import BoolArray, CoreInputError, FloatArray, IntArray

EXACT_BELOW_US = 128
PER_OCTAVE = 64
_FIRST_EXPONENT = 7  # 2**7 == EXACT_BELOW_US
_LAST_EXPONENT = 29  # 2**29 µs = 537 s; 10 min lies in this octave
BUCKETS = EXACT_BELOW_US + (_LAST_EXPONENT - _FIRST_EXPONENT + 1) * PER_OCTAVE
MAX_US = (1 << (_LAST_EXPONENT + 1)) - 1


def bucket_of(times_us: IntArray) -> IntArray:
    """Bucket numbers of times in microseconds, shape (n,). Longer times go to the last bucket."""
    values = np.clip(np.asarray(times_us, dtype=np.int64), 0, MAX_US)
    _, exponent = np.frexp(values.astype(np.float64))
    octave = np.maximum(exponent.astype(np.int64) - 1, _FIRST_EXPONENT)
    position = (values >> (octave - 6)) - PER_OCTAVE
    coarse = EXACT_BELOW_US + (octave - _FIRST_EXPONENT) * PER_OCTAVE + position
    return np.where(values < EXACT_BELOW_US, values, coarse)


def _edges_us() -> FloatArray:
    exact = np.arange(EXACT_BELOW_US, dtype=np.float64)
    octaves = [2.0**e * (1 + np.arange(PER_OCTAVE) / PER_OCTAVE) for e in range(_FIRST_EXPONENT, _LAST_EXPONENT + 1)]
    return np.concatenate([exact, *octaves, [2.0 ** (_LAST_EXPONENT + 1)]])


EDGES_US: FloatArray = _edges_us()
"""Lower edge of each bucket in µs and, last, the upper edge of the last: shape (BUCKETS + 1,)."""


def counts_of(times_us: IntArray) -> IntArray:
    """Counts per bucket, shape (BUCKETS,), of times in microseconds."""
    return np.bincount(bucket_of(times_us), minlength=BUCKETS).astype(np.int64)


def percentile_s(counts: IntArray | FloatArray, percent: float) -> float:
    """The ``percent``-th percentile in seconds, NaN when nothing was counted.

    Counts may be weighted (floats). Within a bucket the observations are taken as evenly spread.
    """
    return float(percentiles_s(np.asarray(counts, dtype=np.float64)[None, :], percent)[0])


def percentiles_s(rows: FloatArray, percent: float) -> FloatArray:
    """The percentile of each row of ``rows`` (shape (k, BUCKETS)) in seconds, shape (k,)."""
    if not 0 < percent < 100:
        raise CoreInputError(f"percent must lie between 0 and 100, not {percent}")
    cumulative = np.cumsum(rows, axis=1)
    total = cumulative[:, -1]
    rank = total * percent / 100
    bucket = (cumulative < rank[:, None]).sum(axis=1).clip(max=BUCKETS - 1)
    take = np.arange(len(rows))
    inside = rows[take, bucket]
    below = cumulative[take, bucket] - inside
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.where(inside > 0, (rank - below) / inside, 0.5)
    low, high = EDGES_US[bucket], EDGES_US[bucket + 1]
    value = (low + np.clip(share, 0, 1) * (high - low)) / 1e6
    return np.where(total > 0, value, np.nan)


def encode(counts: IntArray) -> bytes:
    """Compact bytes of a histogram: (gap, count) pairs as varints, deflated."""
    buckets = np.flatnonzero(counts)
    gaps = np.diff(buckets, prepend=0)
    out = bytearray()
    for pair in zip(gaps.tolist(), counts[buckets].tolist(), strict=True):
        for number in pair:
            while number > 127:
                out.append(number & 127 | 128)
                number >>= 7
            out.append(number)
    return zlib.compress(bytes(out), 6)


def decode(data: bytes) -> tuple[IntArray, IntArray]:
    """Buckets and counts, both shape (nonzero,), from :func:`encode`'s bytes."""
    buckets, counts, _ = decode_all([data])
    return buckets, counts


def decode_all(encoded: Sequence[bytes]) -> tuple[IntArray, IntArray, IntArray]:
    """Buckets and counts of many histograms end to end, and how many of each one, in one pass."""
    parts = [zlib.decompress(data) for data in encoded]
    raw = np.frombuffer(b"".join(parts), dtype=np.uint8).astype(np.int64)
    edges = np.cumsum([0, *map(len, parts)])
    if not raw.size:
        return raw, raw, np.zeros(len(parts), dtype=np.int64)
    ends = raw < 128
    last = np.flatnonzero(ends)
    first = np.concatenate([[0], last[:-1] + 1])
    place = np.arange(raw.size) - np.repeat(first, last - first + 1)
    pairs = np.add.reduceat((raw & 127) << (7 * place), first).reshape(-1, 2)
    sizes = np.diff(np.concatenate([[0], np.cumsum(ends)])[edges]) // 2
    # Gaps add up within a histogram: take off what the ones before it added.
    running = np.cumsum(pairs[:, 0])
    starts = np.cumsum(sizes) - sizes
    before = np.where(starts > 0, running[np.maximum(starts, 1) - 1], 0)
    return running - np.repeat(before, sizes), pairs[:, 1], sizes


@dataclass(frozen=True)
class HistogramSeries:
    """Histograms per second and step, held sparsely: one entry for each non-empty bucket.

    ``second``, ``step``, ``bucket`` and ``count`` have equal length; ``second`` ascends.
    """

    second: IntArray
    step: IntArray
    bucket: IntArray
    count: IntArray

    @classmethod
    def from_entries(cls, entries: Sequence[tuple[int, int, bytes]]) -> HistogramSeries:
        """Build from (second, step, encoded histogram) triples in any order."""
        ordered = sorted(entries, key=lambda entry: entry[:2])
        bucket, count, sizes = decode_all([data for _, _, data in ordered])
        second = np.array([entry[0] for entry in ordered], dtype=np.int64)
        step = np.array([entry[1] for entry in ordered], dtype=np.int64)
        return cls(np.repeat(second, sizes), np.repeat(step, sizes), bucket, count)

    @classmethod
    def from_observations(cls, second: IntArray, step: IntArray, times_us: IntArray) -> HistogramSeries:
        """Build from single observations, three arrays of shape (n,)."""
        key = (second * 1_000 + step) * BUCKETS + bucket_of(times_us)
        unique, count = np.unique(key, return_counts=True)
        cell = unique // BUCKETS
        return cls(cell // 1_000, cell % 1_000, unique % BUCKETS, count.astype(np.int64))

    @classmethod
    def joined(cls, series: Sequence[HistogramSeries]) -> HistogramSeries:
        """All of them as one: their counts add up."""
        columns = [
            np.concatenate([getattr(one, name) for one in series]) for name in ("second", "step", "bucket", "count")
        ]
        order = np.argsort(columns[0], kind="stable")
        return cls(*(column[order] for column in columns))

    def negated(self) -> HistogramSeries:
        """The same counts, to be taken away when joined."""
        return HistogramSeries(self.second, self.step, self.bucket, -self.count)

    def merged(self, seconds: BoolArray, steps: Sequence[int] | None = None) -> IntArray:
        """Counts per bucket over the seconds marked in ``seconds`` (shape (n,)) and ``steps``."""
        return np.asarray(self.blocks(np.where(seconds, 0, -1), 1, steps)[0], dtype=np.int64)

    def blocks(self, block_of_second: IntArray, blocks: int, steps: Sequence[int] | None = None) -> FloatArray:
        """One histogram per block, shape (blocks, BUCKETS).

        ``block_of_second`` (shape (n,)) gives the block of each second, −1 for none.
        """
        inside = self.second < len(block_of_second)
        block = np.where(inside, block_of_second[np.minimum(self.second, len(block_of_second) - 1)], -1)
        chosen = block >= 0
        if steps is not None:
            chosen &= np.isin(self.step, np.asarray(steps))
        flat = np.bincount(
            block[chosen] * BUCKETS + self.bucket[chosen],
            weights=self.count[chosen],
            minlength=blocks * BUCKETS,
        )
        return np.asarray(flat.reshape(blocks, BUCKETS), dtype=np.float64)
