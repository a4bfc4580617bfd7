"""What responses of a run told of the time spent in servers (``Server-Timing``)."""

from __future__ import annotations

import numpy as np

from stonekettle.core.types import FloatArray, IntArray
from stonekettle.server.runs.models import Run, RunSecond
from stonekettle.server.runs.plate import narrowest

Told = tuple[int, str, int]
"""A level, a server's name and a step."""


def by_level(run: Run, place: IntArray) -> dict[Told, FloatArray]:
    """By level, server and step how many responses told, and the sum of what they told (s), shape (2,); ``place`` is
    the level of each second, 0 for none. Nothing where single seconds are not kept."""
    if narrowest(run) > 1:
        return {}
    rows = RunSecond.objects.filter(run=run, every=1).exclude(told__timings={}).values_list("second", "told__timings")
    sums: dict[Told, FloatArray] = {}
    for second, timings in rows:
        number = int(place[second]) if second < place.size else 0
        for name, by_step in (timings or {}).items() if number else ():
            for step, own in by_step.items():
                of = number, name, int(step)
                sums[of] = sums.get(of, np.zeros(2)) + own
    return sums
