"""The few value types every module of the core shares."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from statistics import NormalDist

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

    @property
    def standard_error(self) -> float:
        """As if it were normal: half the interval's width over its quantile (from 90 %: 1.645)."""
        return (self.high - self.low) / 2 / NormalDist().inv_cdf((1 + self.confidence) / 2)

    def scaled(self, factor: float) -> Estimate:
        """The same estimate in another unit, e.g. throughput times cycle time gives users."""
        return Estimate(self.value * factor, self.low * factor, self.high * factor, self.confidence)


class Reason(StrEnum):
    """Why a question has no answer. Stable: programs and stored findings go by it."""

    TOO_FEW_LEVELS = "too few levels"
    NO_SUCCESS = "no successful requests"
    NO_OBJECTIVES = "no objectives"
    NOT_REACHED = "not reached"
    BLURRED = "blurred"
    """The two ends of what was measured differ by more than the answer can bear."""
    GENERATOR = "generator"
    """The generators were the limit."""
    LAWS = "laws"
    """The data break Little's law at over a third of the levels."""

    @property
    def of_measuring(self) -> bool:
        """Whether the way of measuring cost the answer."""
        return self in (Reason.BLURRED, Reason.GENERATOR, Reason.LAWS)


@dataclass(frozen=True)
class Declined:
    """No answer, on purpose: why, and the load up to which something is known all the same."""

    reason: Reason
    at_least: float | None = None


class CoreInputError(ValueError):
    """An argument that cannot be computed with; the message names it and says what is wrong."""
