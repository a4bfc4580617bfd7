"""Is there something ahead that no meter sees, and that only one step at a time can use: a lock?

Of the mean response time at a level, metered hardware explains its demands and the waiting for them (Erlang 1917).
What is left may be there at any load, as the way through a network is; or a part of it is a step's time D at a lock,
which grows to D/(1 − X·D) as the throughput X comes near to 1/D (Kleinrock 1975). How likely the levels of some runs
are with a lock that lets so much through, over how likely they are without, is the evidence for it. A lock that is
mostly free grows hardly at all: little evidence is not evidence of none.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from stonekettle.core.analysis import Analysis
from stonekettle.core.queueing import have_to_wait
from stonekettle.core.types import FloatArray

FULLEST = 0.88
"""Where hardware is busier, its own waiting is too uncertain for anything to be seen beside it."""
LEAST_LEVELS = 3
FAILED = 0.02
"""Where a larger share fails, a mean response tells of other work."""
OFF, OFF_OF_WAITING = 0.006, 0.5
"""What is left is off by such a share of the response time, and of the waiting: service varies more or less than is
supposed."""
NEARLY = 0.98


@dataclass(frozen=True)
class Rest:
    """What hardware leaves unexplained at some levels of a run, each of shape (levels,): the throughput (1/s), the time
    (s) and its standard error (s)."""

    rate: FloatArray
    time_s: FloatArray
    error_s: FloatArray


def rest_of(analysis: Analysis) -> Rest | None:
    """Of a run's levels at which all metered hardware had room; None where they are too few or nothing is metered."""
    demands = analysis.hardware_demands
    demand_s = np.array([one.demand_s.value for one in demands])
    servers = np.maximum(1.0, np.round([one.servers for one in demands]))
    found = []
    for level in analysis.levels if demands else ():
        busy = level.throughput * demand_s
        failed = level.completion_rate - level.throughput
        if (busy > FULLEST * servers).any() or failed > FAILED * level.completion_rate or level.moving:
            continue
        waiting_s = float((have_to_wait(busy, servers) * demand_s / (servers - busy)).sum())
        chance_s = 0.0 if math.isnan(level.response_se_s) else level.response_se_s
        error_s = math.hypot(chance_s, OFF * level.response_s, OFF_OF_WAITING * waiting_s, level.blind_s, level.bunch_s)
        found.append((level.throughput, level.response_s - float(demand_s.sum()) - waiting_s, error_s))
    if len(found) < LEAST_LEVELS:
        return None
    return Rest(*np.array(found).T)


def evidence(rests: Iterable[Rest], limits: FloatArray) -> FloatArray:
    """For a lock that lets through each of ``limits`` (1/s, shape (k,)): the log of how likely what is left is with it
    over how likely it is without, shape (k,). What is there at any load is each run's own."""
    each_s = 1 / limits
    total = np.zeros(limits.size)
    for rest in rests:
        weight = 1 / rest.error_s**2
        inside_s = each_s[:, None] / (1 - np.minimum(NEARLY, rest.rate * each_s[:, None]))
        total += _log_likely(rest.time_s - inside_s, weight) - _log_likely(rest.time_s[None, :], weight)
    return total


def _log_likely(left_s: FloatArray, weight: FloatArray) -> FloatArray:
    """Of a constant and errors, with the constant at its best (up to what all have in common)."""
    constant = (left_s @ weight / weight.sum())[:, None]
    return np.asarray(-0.5 * ((left_s - constant) ** 2) @ weight)
