"""Histories whose shifts are known: how often a steady one raises an alarm, and how surely, soon and rightly a step is
found."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.truth import share
from stonekettle.core.history import LIMIT, alarm, shifted
from stonekettle.core.types import FloatArray

SERIES, RUNS, LONG = 200, 30, 150
QUICK = 40
STEP, NOISE, MORE_NOISE = 0.10, 0.03, 0.05
TOGETHER = 10
NEAR = 2


def measure(*, quick: bool) -> list[Figure]:
    """Over 200 series of 30 runs each (40 with ``quick``)."""
    random = np.random.default_rng(15)
    count = QUICK if quick else SERIES
    steady = [_noise(random, NOISE) for _ in range(count)]
    sets = [[_noise(random, NOISE) for _ in range(TOGETHER)] for _ in range(count)]
    long = [np.asarray(random.normal(0.0, NOISE, LONG), dtype=np.float64) for _ in range(count)]
    figures = [
        share("steady, called shifted", [bool(shifted(np.exp(one))) for one in steady], 0.0, 0.05),
        share(f"steady over {LONG} runs, called shifted", [bool(shifted(np.exp(one))) for one in long], 0.0, 0.05),
        share(
            f"{TOGETHER} steady figures, any called shifted",
            [any(shifted(np.exp(one), TOGETHER) for one in each) for each in sets],
            0.0,
            0.05,
        ),
    ]
    for noise, least in ((NOISE, 0.97), (MORE_NOISE, 0.85)):
        places = [int(place) for place in random.integers(8, RUNS - 8, count)]
        series = [_noise(random, noise) + np.log1p(STEP) * (np.arange(RUNS) >= place) for place in places]
        found = [shifted(np.exp(one)) for one in series]
        name = f"a step of {STEP:.0%} at {noise:.0%} noise"
        figures.append(share(f"{name}, found", [bool(at) for at in found], least, 1.0))
        near = [any(abs(at - place) <= NEAR for at in told) for told, place in zip(found, places, strict=True) if told]
        figures.append(share(f"{name}, right within {NEAR} runs", near, 0.95 if noise == NOISE else 0.80, 1.0))
        figures.append(_delay(name, noise, series, places))
    return figures


def _noise(random: np.random.Generator, noise: float) -> FloatArray:
    return np.asarray(random.normal(0.0, noise, RUNS), dtype=np.float64)


def _delay(name: str, noise: float, series: Sequence[FloatArray], places: Sequence[int]) -> Figure:
    """After how many runs of the new level the alarm comes."""
    alarms = [(alarm(one, LIMIT), place) for one, place in zip(series, places, strict=True)]
    late = [at - place + 1 for at, place in alarms if at is not None and at >= place]
    told = float(np.median(late)) if late else float("inf")
    target = "at most 5" if noise == NOISE else ""
    return Figure(f"{name}, runs to the alarm", f"{told:.0f}", target, told <= 5 if target else None)
