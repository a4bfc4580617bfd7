"""How does throughput grow with those that work at once: users who do not think, or instances?

The universal scalability law (Gunther 1993), C(n) = γn / (1 + α(n − 1) + βn(n − 1)): γ is what one does alone, α the
share that only one at a time can do (contention; alone it is Amdahl's law, 1967), β what each costs every other
(coherency). n/C is linear in 1/γ, α/γ and β/γ, so each law is a weighted least squares fit with none of them negative
(Lawson & Hanson 1974); the simplest that the data bear is taken, by Akaike's criterion with its correction for few
points (Hurvich & Tsai 1989). It describes what was measured and says nothing beyond it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy

from stonekettle.core.levels import Level
from stonekettle.core.types import CoreInputError, FloatArray

ScalabilityLaw = Literal["linear", "contention", "coherency"]
MIN_POINTS = 6
"""The criterion has no value for three constants and fewer."""
LEAST_SE = 0.01
NO_THINK = 0.05
"""Think time of a smaller share of the response at light load is none: nearly all who are there work."""


@dataclass(frozen=True)
class Scalability:
    """The law of the data and its constants; ``alone`` is γ, in steps per second."""

    law: ScalabilityLaw
    alone: float
    contention: float
    coherency: float

    def throughput(self, loads: FloatArray) -> FloatArray:
        """Steps per second at so many at once."""
        slowed = 1 + self.contention * (loads - 1) + self.coherency * loads * (loads - 1)
        return np.asarray(self.alone * loads / slowed)


def of_levels(levels: Sequence[Level]) -> Scalability | None:
    """The law of a run's levels; None where people think between steps, or with fewer than six levels of users."""
    told = [lv for lv in levels if lv.load.kind == "users" and lv.throughput > 0 and lv.users >= 1]
    if len(told) < MIN_POINTS:
        return None
    lightest = min(told, key=lambda lv: lv.users)
    think_s = lightest.thinking / lightest.completion_rate
    if think_s > NO_THINK * lightest.response_s:
        return None
    table = np.array([(lv.users, lv.throughput, lv.throughput_se) for lv in told])
    return fit(table[:, 0], table[:, 1], table[:, 2])


def fit(n: FloatArray, rate: FloatArray, se: FloatArray) -> Scalability:
    """The law of throughputs ``rate`` with standard errors ``se`` at ``n`` at once, each of shape (k,). Raises
    :class:`CoreInputError` with fewer than six points, or where one is not above 0."""
    if n.size < MIN_POINTS or not (n > 0).all() or not (rate > 0).all():
        raise CoreInputError(f"rate: a scalability law needs {MIN_POINTS} throughputs above 0, not {n.size}.")
    relative = np.maximum(np.nan_to_num(se) / rate, LEAST_SE)
    weight = rate / n / relative
    columns = np.stack([np.ones_like(n), n - 1, n * (n - 1)])
    laws: tuple[ScalabilityLaw, ...] = ("linear", "contention", "coherency")
    best: tuple[float, Scalability] | None = None
    for constants, law in enumerate(laws, 1):
        found, off = scipy.optimize.nnls((columns[:constants] * weight).T, n / rate * weight)
        if not found[0] > 0:
            continue
        criterion = off**2 + 2 * constants * n.size / (n.size - constants - 1)
        each = [*found / found[0], 0.0, 0.0]
        if best is None or criterion < best[0]:
            best = criterion, Scalability(law, float(1 / found[0]), float(each[1]), float(each[2]))
    if best is None:
        raise CoreInputError("rate: throughput grows faster than those who work; no scalability law says that.")
    return best[1]
