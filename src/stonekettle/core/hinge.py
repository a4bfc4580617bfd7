"""Does throughput bend, and where: a hinge of two straight lines, the second of them level.

min(aN, aB) is fitted by weighted least squares over a scan of breaks B; a parametric bootstrap tells how sure the break
is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from stonekettle.core.types import FloatArray

BREAKS = 240
REPLICATES = 400


@dataclass(frozen=True)
class Hinge:
    """The fitted min(slope·N, slope·break_load), its χ², and AICc against a line through 0."""

    slope: float
    break_load: float
    chi2: float
    aicc_gain: float

    @property
    def plateau(self) -> float:
        return self.slope * self.break_load


def fit_hinge(loads: FloatArray, rate: FloatArray, se: FloatArray) -> Hinge:
    """Fit min(aN, aB) by weighted least squares over a scan of breaks B. Shapes (k,)."""
    grid = _grid(loads)
    slope, sse = _scan(grid, loads, rate[None, :], se)
    best = int(np.argmin(sse[0]))
    line_slope = float((loads * rate / se**2).sum() / (loads**2 / se**2).sum())
    line_sse = float((((rate - line_slope * loads) / se) ** 2).sum())
    gain = _aicc(line_sse, len(loads), 1) - _aicc(float(sse[0, best]), len(loads), 2)
    return Hinge(float(slope[0, best]), float(grid[best]), float(sse[0, best]), gain)


def _grid(loads: FloatArray) -> FloatArray:
    return np.linspace(loads.min(), loads.max(), BREAKS)


def _scan(grid: FloatArray, loads: FloatArray, rates: FloatArray, se: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Best slope and its sum of squares for every replicate (rows of ``rates``) and break."""
    shape = np.minimum(loads[None, :], grid[:, None])
    weighted = shape / se**2
    norm = (shape * weighted).sum(axis=1)
    slope = rates @ weighted.T / norm
    total = ((rates / se) ** 2).sum(axis=1)
    return slope, total[:, None] - slope**2 * norm


def bootstrap_breaks(loads: FloatArray, rate: FloatArray, se: FloatArray, random: np.random.Generator) -> FloatArray:
    grid = _grid(loads)
    rates = rate + se * random.standard_normal((REPLICATES, len(rate)))
    _, sse = _scan(grid, loads, rates, se)
    return np.asarray(grid[np.argmin(sse, axis=1)])


def _aicc(sse: float, n: int, parameters: int) -> float:
    """AICc of a fit with known variances: sse is χ² (Hurvich & Tsai 1989)."""
    penalty = 2 * parameters * (parameters + 1) / max(n - parameters - 1, 1)
    return sse + 2 * parameters + penalty
