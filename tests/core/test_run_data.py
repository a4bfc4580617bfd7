"""Run data refuses arrays that do not fit together, by name."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core.run_data import ResourceSeries
from stonekettle.core.types import CoreInputError
from tests.conftest import steady_run


def test_wrong_shapes_are_named() -> None:
    with pytest.raises(CoreInputError, match="in_flight must have one entry for each of the 60 seconds"):
        replace(steady_run(), in_flight=np.zeros(59))
    with pytest.raises(CoreInputError, match="completed must have shape"):
        replace(steady_run(), completed=np.zeros((60, 2), dtype=np.int64))
    with pytest.raises(CoreInputError, match=r"utilisation of shop\.cpu"):
        steady_run(resources=(ResourceSeries("shop", "cpu", "cpu", np.ones(60), np.zeros(3)),))
