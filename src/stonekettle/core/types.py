"""The few value types every module of the core shares."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
IntArray = npt.NDArray[np.int64]
BoolArray = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Estimate:
    """A number with its uncertainty. ``low`` and ``high`` bound it at ``confidence`` (0..1)."""

    value: float
    low: float
    high: float
    confidence: float = 0.90

    def scaled(self, factor: float) -> Estimate:
        """The same estimate in another unit, e.g. throughput times cycle time gives users."""
        return Estimate(self.value * factor, self.low * factor, self.high * factor, self.confidence)


@dataclass(frozen=True)
class Declined:
    """No answer, on purpose: ``reason`` is a stable code, the rest are the figures behind it."""

    reason: str
    at_least_users: float | None = None


class CoreInputError(ValueError):
    """An argument that cannot be computed with; the message names it and says what is wrong."""
