"""How long requests took in a stretch of a run, as a distribution; and in another one, in the same bars."""

from __future__ import annotations

import math

import numpy as np
from ninja import Field, Schema

from stonekettle.core import histogram
from stonekettle.core.spread import bars_of
from stonekettle.core.types import FloatArray
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import steps
from stonekettle.server.runs.models import Run
from stonekettle.server.runs.plate import MOST_SECONDS, Stretch

PERCENTS = (50.0, 95.0, 99.0)


class Asked(Stretch):
    """The selection whose requests are asked for, in a stretch; and another stretch beside it, if it has an end."""

    of: str = Field("all", max_length=20)
    beside_from_s: int = Field(0, ge=0, le=MOST_SECONDS)
    beside_until_s: int = Field(0, ge=0, le=MOST_SECONDS)


class Shape(Schema):
    """The requests that succeeded in a stretch: how many took as long as each bar says, in all ``count``; times in s,
    the mean exactly, percentiles within 0.8 %. Nothing is known where there were none."""

    from_s: int
    until_s: int
    count: int
    bars: list[int]
    mean_s: float | None
    p50_s: float | None
    p95_s: float | None
    p99_s: float | None


class Distribution(Schema):
    """Shapes of the selection ``of`` in the same bars: bar ``i`` lies between ``edges_s[i]`` and the next."""

    of: str
    name: str
    edges_s: list[float]
    shapes: list[Shape]


def of(run: Run, asked: Asked, seconds: int) -> Distribution:
    """Of a run of so many seconds. Raises :class:`Conflict` where it has no such selection."""
    chosen = next((one for one in run.layout.selections if one.id == asked.of), None)
    if chosen is None:
        raise Conflict(f"Run {run.pk} has nothing that is called {asked.of!r}. Ask for all, or a step as step:0.")
    if run.seeded:
        raise Conflict(f"Of run {run.pk}, which came with the product, no single response times were kept.")
    stretches = [steps.rounded(run, asked, seconds)]
    if asked.beside_until_s:
        other = {"from_s": asked.beside_from_s, "until_s": asked.beside_until_s, "last_s": 0}
        beside = asked.model_copy(update=other)
        stretches.append(steps.rounded(run, beside, seconds))
    cells = list(chosen.cells)
    sums = [steps.sums_of(run, start, end) for start, end in stretches]
    times = np.array([one.times[cells].sum(axis=0) for one in sums])
    edges_s, bars = bars_of(times)
    shapes = []
    for (start, end), one, counts, in_bars in zip(stretches, sums, times, bars, strict=True):
        done, errors, took_s = (float(row[cells].sum()) for row in one.counts[:3])
        shapes.append(_shape(start, end, counts, in_bars, took_s / (done - errors) if done > errors else math.nan))
    return Distribution(of=chosen.id, name=chosen.name, edges_s=edges_s.tolist(), shapes=shapes)


def _shape(start: int, end: int, counts: FloatArray, bars: FloatArray, mean_s: float) -> Shape:
    p50, p95, p99 = (histogram.percentile_s(counts, percent) for percent in PERCENTS)
    return Shape(
        from_s=start,
        until_s=end,
        count=round(float(counts.sum())),
        bars=[round(count) for count in bars.tolist()],
        mean_s=steps.known(mean_s),
        p50_s=steps.known(p50),
        p95_s=steps.known(p95),
        p99_s=steps.known(p99),
    )
