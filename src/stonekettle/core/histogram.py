"""How are the response times distributed, in a form that can be merged?

Log-linear buckets over whole microseconds: exact below 128 µs, then 64 equal buckets per octave
up to 10 minutes. Any value is recovered within 0.8 %. Merging is addition, so percentiles of any
window, step or generator come from counts and are never averaged.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

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


def percentiles_s(rows: FloatArray, percent: float, first: int = 0) -> FloatArray:
    """The percentile of each row of ``rows`` (shape (k, BUCKETS), or fewer from bucket ``first`` on) in seconds,
    shape (k,)."""
    return several_percentiles_s(rows, (percent,), first)[0]


def several_percentiles_s(rows: FloatArray, percents: Sequence[float], first: int = 0) -> tuple[FloatArray, ...]:
    """As :func:`percentiles_s`, for each of ``percents``; the rows are added up once."""
    cumulative = np.cumsum(rows, axis=1)
    return tuple(_percentile_s(rows, cumulative, percent, first) for percent in percents)


def _percentile_s(rows: FloatArray, cumulative: FloatArray, percent: float, first: int) -> FloatArray:
    if not 0 < percent < 100:
        raise CoreInputError(f"percent must lie between 0 and 100, not {percent}")
    total = cumulative[:, -1]
    rank = total * percent / 100
    bucket = (cumulative < rank[:, None]).sum(axis=1).clip(max=rows.shape[1] - 1)
    take = np.arange(len(rows))
    inside = rows[take, bucket]
    below = cumulative[take, bucket] - inside
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.where(inside > 0, (rank - below) / inside, 0.5)
    low, high = EDGES_US[first + bucket], EDGES_US[first + bucket + 1]
    value = (low + np.clip(share, 0, 1) * (high - low)) / 1e6
    return np.where(total > 0, value, np.nan)


def cropped(rows: FloatArray) -> tuple[FloatArray, int]:
    """``rows`` (shape (k, BUCKETS)) from the first to the last bucket that any of them has, and the first's number."""
    occupied = np.flatnonzero(rows.any(axis=0))
    first, end = (int(occupied[0]), int(occupied[-1]) + 1) if occupied.size else (0, 1)
    return rows[:, first:end], first


def encode(counts: IntArray) -> bytes:
    """Compact bytes of a histogram: (gap, count) pairs as varints."""
    buckets = np.flatnonzero(counts)
    pairs = np.column_stack([np.diff(buckets, prepend=0), counts[buckets]]).ravel()
    # Each number in groups of 7 bits, the lowest first; all but its last byte have the eighth bit set.
    lengths = np.ones(pairs.size, dtype=np.int64)
    for bits in range(7, int(pairs.max(initial=1)).bit_length(), 7):
        lengths += pairs >> bits > 0
    ends = np.cumsum(lengths)
    place = np.arange(ends[-1] if ends.size else 0) - np.repeat(ends - lengths, lengths)
    groups = np.repeat(pairs, lengths) >> (7 * place) & 127
    more = place < np.repeat(lengths, lengths) - 1
    return bytes((groups | more << 7).astype(np.uint8))


def decode(data: bytes) -> tuple[IntArray, IntArray]:
    """Buckets and counts, both shape (nonzero,), from :func:`encode`'s bytes."""
    buckets, counts, _ = decode_all([data])
    return buckets, counts


def decode_all(encoded: Sequence[bytes]) -> tuple[IntArray, IntArray, IntArray]:
    """Buckets and counts of many histograms end to end, and how many of each one, in one pass."""
    raw = np.frombuffer(b"".join(encoded), dtype=np.uint8)
    edges = np.cumsum([0, *map(len, encoded)])
    if not raw.size:
        nothing = np.zeros(0, dtype=np.int64)
        return nothing, nothing, np.zeros(len(encoded), dtype=np.int64)
    ends = raw < 128
    last = np.flatnonzero(ends)
    first = np.concatenate([[0], last[:-1] + 1])
    numbers = (raw[first] & 127).astype(np.int64)
    # Most numbers are one byte long: only the others are put together.
    for place in range(1, int((last - first).max()) + 1):
        longer = np.flatnonzero(last - first >= place)
        numbers[longer] |= (raw[first[longer] + place] & 127).astype(np.int64) << (7 * place)
    pairs = numbers.reshape(-1, 2)
    sizes = np.diff(np.concatenate([[0], np.cumsum(ends)])[edges]) // 2
    # Gaps add up within a histogram: take off what the ones before it added.
    running = np.cumsum(pairs[:, 0])
    starts = np.cumsum(sizes) - sizes
    before = np.where(starts > 0, running[np.maximum(starts, 1) - 1], 0)
    return running - np.repeat(before, sizes), pairs[:, 1], sizes


def decode_rows(encoded: Sequence[bytes], row: Sequence[int], rows: int) -> FloatArray:
    """Histograms added up by row, shape (rows, BUCKETS); ``row`` gives the row of each."""
    buckets, counts, sizes = decode_all(encoded)
    flat = np.repeat(np.asarray(row, dtype=np.int64), sizes) * BUCKETS + buckets
    sums = np.bincount(flat, weights=counts, minlength=rows * BUCKETS)
    return np.asarray(sums.reshape(rows, BUCKETS), dtype=np.float64)


DECODED_AT_ONCE = 10_000
Small = npt.NDArray[np.int32]


@dataclass(frozen=True)
class HistogramSeries:
    """Histograms per second and cell, held sparsely: one entry for each non-empty bucket.

    ``second``, ``cell``, ``bucket`` and ``count`` have equal length, in order of cell and, within it, second: what is
    asked of some cells over some seconds touches their entries and no others.
    """

    second: Small
    cell: Small
    bucket: Small
    count: Small

    @classmethod
    def from_entries(cls, entries: Sequence[tuple[int, int, bytes]]) -> HistogramSeries:
        """Build from (second, cell, encoded histogram) triples in any order."""
        ordered = sorted(entries, key=lambda entry: (entry[1], entry[0]))
        columns: list[list[Small]] = [[], [], [], []]
        for start in range(0, len(ordered), DECODED_AT_ONCE):
            some = ordered[start : start + DECODED_AT_ONCE]
            bucket, count, sizes = decode_all([data for _, _, data in some])
            second = np.repeat(np.array([one[0] for one in some], dtype=np.int32), sizes)
            cell = np.repeat(np.array([one[1] for one in some], dtype=np.int32), sizes)
            found = (second, cell, bucket.astype(np.int32), count.astype(np.int32))
            for column, part in zip(columns, found, strict=True):
                column.append(part)
        return cls(*(np.concatenate([np.zeros(0, dtype=np.int32), *column]) for column in columns))

    @classmethod
    def from_observations(cls, second: IntArray, cell: IntArray, times_us: IntArray) -> HistogramSeries:
        """Build from single observations, three arrays of shape (n,)."""
        seconds = int(second.max(initial=0)) + 1
        key = (cell * seconds + second) * BUCKETS + bucket_of(times_us)
        unique, count = np.unique(key, return_counts=True)
        place = unique // BUCKETS
        columns = (place % seconds, place // seconds, unique % BUCKETS, count)
        return cls(*(column.astype(np.int32) for column in columns))

    @classmethod
    def joined(cls, series: Sequence[HistogramSeries]) -> HistogramSeries:
        """All of them as one: their counts add up."""
        columns = [
            np.concatenate([getattr(one, name) for one in series]) for name in ("second", "cell", "bucket", "count")
        ]
        order = np.lexsort((columns[0], columns[1]))
        return cls(*(column[order] for column in columns))

    def negated(self) -> HistogramSeries:
        """The same counts, to be taken away when joined."""
        return HistogramSeries(self.second, self.cell, self.bucket, -self.count)

    def merged(self, seconds: BoolArray, cells: Sequence[int] | None = None) -> IntArray:
        """Counts per bucket over the seconds marked in ``seconds`` (shape (n,)) and ``cells``, None: all."""
        return np.asarray(self.blocks(np.where(seconds, 0, -1), 1, cells)[0], dtype=np.int64)

    def blocks(self, block_of_second: IntArray, blocks: int, cells: Sequence[int] | None = None) -> FloatArray:
        """One histogram per block, shape (blocks, BUCKETS).

        ``block_of_second`` (shape (n,)) gives the block of each second, −1 for none.
        """
        marked = np.flatnonzero(block_of_second >= 0)
        if not marked.size:
            return np.zeros((blocks, BUCKETS))
        parts = self._parts(cells, int(marked[0]), int(marked[-1]) + 1)
        second, bucket, count = (
            column[parts[0]] if len(parts) == 1 else np.concatenate([column[:0], *(column[part] for part in parts)])
            for column in (self.second, self.bucket, self.count)
        )
        if marked.size <= marked[-1] - marked[0]:  # seconds between them are of no block
            chosen = block_of_second[second] >= 0
            second, bucket, count = second[chosen], bucket[chosen], count[chosen]
        place = bucket if blocks == 1 else block_of_second[second] * BUCKETS + bucket
        flat = np.bincount(place, weights=count, minlength=blocks * BUCKETS)
        return np.asarray(flat.reshape(blocks, BUCKETS), dtype=np.float64)

    @cached_property
    def _starts(self) -> IntArray:
        """Where the entries of each cell begin, and the last ones end."""
        cells = int(self.cell[-1]) + 1 if self.cell.size else 0
        return np.searchsorted(self.cell, np.arange(cells + 1))

    def _parts(self, cells: Sequence[int] | None, first: int, end: int) -> list[slice]:
        """Where the entries of these cells from second ``first`` to before ``end`` are."""
        starts = self._starts
        ends = np.array([first, end], dtype=self.second.dtype)  # of another type all seconds would be converted
        found = []
        for cell in range(len(starts) - 1) if cells is None else cells:
            if cell < len(starts) - 1:
                low, high = int(starts[cell]), int(starts[cell + 1])
                inside = low + np.searchsorted(self.second[low:high], ends)
                found.append(slice(int(inside[0]), int(inside[1])))
        return found
