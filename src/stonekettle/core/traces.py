"""Where did the time of one request go? From what the servers it passed through told of it.

A span is a stay somewhere: its beginning and end by the clock of whoever tells it, and the span that it is part of.
Clocks of different servers differ, but a stay that was asked for from within another lies within that one, so one that
does not is moved there by as little as possible, with everything below it (Sigelman et al., 2010, bound the skew of
two clocks the same way).
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from scipy import stats

from stonekettle.core.types import FloatArray


@dataclass(frozen=True)
class Span:
    """A stay in a service, from ``start_s`` to ``end_s``; ``parent`` is the id of the span it is part of, "" for
    none."""

    id: str
    parent: str
    service: str
    name: str
    start_s: float
    end_s: float
    failed: bool = False

    @property
    def length_s(self) -> float:
        return self.end_s - self.start_s


@dataclass(frozen=True)
class Stay:
    """A span in its place: so many others around it, and how much of its time it spent itself (s)."""

    span: Span
    depth: int
    own_s: float


@dataclass(frozen=True)
class MeanTime:
    """Mean time (s) and the bounds of its interval; NaN bounds where there were too few to tell."""

    mean_s: float
    low_s: float
    high_s: float


def stays_of(spans: Iterable[Span]) -> list[Stay]:
    """The spans of one request, each after the one it is part of, then by time. What is part of nothing that is
    known comes first, as does what stands in a circle. Own times add up to the time in which any span was open: of
    several that are open at once and hold no other, each has an equal share."""
    known = {span.id: span for span in spans}
    below: dict[str | None, list[Span]] = defaultdict(list)
    for span in known.values():
        below[span.parent if span.parent in known and not _circles(span, known) else None].append(span)
    placed: list[Span] = []
    above: list[int] = []
    depths: list[int] = []
    waiting = [(span, -1, 0.0) for span in sorted(below[None], key=_by_time, reverse=True)]
    while waiting:
        span, outer, moved = waiting.pop()
        moved += _moved(span, moved, placed[outer] if outer >= 0 else None)
        at = len(placed)
        placed.append(replace(span, start_s=span.start_s + moved, end_s=span.end_s + moved))
        above.append(outer)
        depths.append(depths[outer] + 1 if outer >= 0 else 0)
        waiting += [(one, at, moved) for one in sorted(below[span.id], key=_by_time, reverse=True)]
    own = _own_times(placed, above)
    return [Stay(*one) for one in zip(placed, depths, own, strict=True)]


def by_service(stays: Iterable[Stay]) -> dict[str, float]:
    """How much of the time was spent in each service itself (s)."""
    found: dict[str, float] = defaultdict(float)
    for stay in stays:
        found[stay.span.service] += stay.own_s
    return dict(found)


def mean_time(part_s: FloatArray, whole_s: FloatArray, mean_whole_s: float, confidence: float = 0.95) -> MeanTime:
    """The mean of a part over all requests, from some of them whose parts and wholes are known, both of shape (n,), and
    the mean of all wholes: the ratio estimator with its linearised variance (Cochran, 1977, section 6.4), which errs
    less than the mean of the parts since a long request has long parts."""
    n, sum_whole = len(whole_s), float(whole_s.sum())
    if n == 0 or sum_whole <= 0:
        return MeanTime(math.nan, math.nan, math.nan)
    ratio = float(part_s.sum()) / sum_whole
    if n < 3:
        return MeanTime(ratio * mean_whole_s, math.nan, math.nan)
    left = part_s - ratio * whole_s
    error = math.sqrt(float(left @ left) / (n * (n - 1))) / (sum_whole / n)
    reach = float(stats.t.ppf((1 + confidence) / 2, n - 1)) * error
    return MeanTime(ratio * mean_whole_s, max(0.0, ratio - reach) * mean_whole_s, (ratio + reach) * mean_whole_s)


def _by_time(span: Span) -> tuple[float, float]:
    return span.start_s, -span.end_s


def _circles(span: Span, known: dict[str, Span]) -> bool:
    """Whether the way up from a span comes back to it."""
    seen = {span.id}
    at = known.get(span.parent)
    while at is not None and at.id not in seen:
        seen.add(at.id)
        at = known.get(at.parent)
    return at is not None and at.id == span.id


def _moved(span: Span, moved: float, around: Span | None) -> float:
    """How far a span, moved with what it is part of, must be moved on to lie within it. On the same clock it stays."""
    if around is None or around.service == span.service or span.length_s > around.length_s:
        return 0.0
    early = around.start_s - (span.start_s + moved)
    late = span.end_s + moved - around.end_s
    return early if early > 0 else -max(0.0, late)


def _own_times(spans: Sequence[Span], above: Sequence[int]) -> list[float]:
    """The time that each spent itself (s); ``above`` is the place of the span around each, -1 for none."""
    own = [0.0] * len(spans)
    moments = sorted({moment for span in spans for moment in (span.start_s, span.end_s)})
    for start, end in pairwise(moments):
        is_open = [place for place, span in enumerate(spans) if span.start_s <= start and span.end_s >= end]
        holding = set()
        for place in is_open:
            outer = above[place]
            while outer >= 0 and outer not in holding:
                holding.add(outer)
                outer = above[outer]
        innermost = [place for place in is_open if place not in holding]
        for place in innermost:
            own[place] += (end - start) / len(innermost)
    return own
