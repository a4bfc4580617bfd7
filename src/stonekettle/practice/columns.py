"""Events of a simulation as columns with one entry per second."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from stonekettle.core.types import FloatArray, IntArray


def first(values: Sequence[float], n: int) -> FloatArray:
    """The first ``n``, as many zeros more as there are too few."""
    return np.array([*values[:n], *[0.0] * max(0, n - len(values))])


def mean_level(times: FloatArray, changes: FloatArray, seconds: int) -> FloatArray:
    """Time-weighted mean per second of a level that changes by ``changes`` at ``times``."""
    if times.size == 0:
        return np.zeros(seconds)
    order = np.argsort(times, kind="stable")
    times, changes = times[order], changes[order]
    level = np.concatenate([[0.0], np.cumsum(changes)])
    area = np.concatenate([[0.0], np.cumsum(level[1:-1] * np.diff(times))])
    edges = np.arange(seconds + 1, dtype=np.float64)
    at = np.searchsorted(times, edges, side="right")
    before = np.maximum(at - 1, 0)
    total = np.where(at > 0, area[before] + level[at] * (edges - times[before]), 0.0)
    return np.diff(total)


def per_second(times: FloatArray, seconds: int) -> FloatArray:
    inside = times[times < seconds]
    return np.bincount(inside.astype(np.int64), minlength=seconds).astype(np.float64)


def longest_gaps(starts: FloatArray, seconds: int) -> FloatArray:
    longest = np.zeros(seconds)
    if starts.size > 1:
        np.maximum.at(longest, np.minimum(starts[1:].astype(np.int64), seconds - 1), np.diff(starts))
    return longest


def counts(times: FloatArray, step: IntArray, shape: tuple[int, int]) -> IntArray:
    return sums(times, step, np.ones(times.size), shape).astype(np.int64)


def sums(times: FloatArray, step: IntArray, values: FloatArray, shape: tuple[int, int]) -> FloatArray:
    inside = times < shape[0]
    flat = times[inside].astype(np.int64) * shape[1] + step[inside]
    return np.asarray(np.bincount(flat, values[inside], shape[0] * shape[1]).reshape(shape), dtype=np.float64)
