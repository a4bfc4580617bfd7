"""Clock offsets are found by aligning with the load, and not claimed where nothing aligns."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core.alignment import align
from stonekettle.core.types import CoreInputError

LOAD = np.repeat(np.arange(1.0, 9.0) * 20, 30)  # eight levels of 30 s


def recorded(offset: float, every: float, noise: float = 0.03) -> tuple[np.ndarray, np.ndarray]:
    """Utilisation that follows the load, averaged over each interval, by a clock ``offset`` ahead."""
    ends = np.arange(every, LOAD.size, every)
    area = np.concatenate(([0.0], np.cumsum(LOAD)))
    seconds = np.arange(area.size)
    means = (np.interp(ends, seconds, area) - np.interp(ends - every, seconds, area)) / every
    values = means / 200 + np.random.default_rng(5).normal(0, noise, ends.size)
    return ends + offset, values


@pytest.mark.parametrize("offset", [0.0, 30.0, -30.0, 437.0])
@pytest.mark.parametrize("every", [1.0, 5.0])
def test_the_offset_is_found(offset: float, every: float) -> None:
    found = align(*recorded(offset, every), LOAD, 600)
    assert found is not None
    assert found.offset_s == pytest.approx(offset, abs=2.0)
    assert found.is_clear


def test_what_falls_as_the_load_rises_aligns_as_well() -> None:
    times, values = recorded(30, 1.0)
    found = align(times, 1 - values, LOAD, 120)
    assert found is not None
    assert found.offset_s == pytest.approx(30, abs=2.0)


def test_noise_is_no_clear_match() -> None:
    times = np.arange(240.0)
    found = align(times, np.random.default_rng(5).normal(size=240), LOAD, 120)
    assert found is None or not found.is_clear


def test_too_little_to_go_by() -> None:
    assert align(np.arange(4.0), np.arange(4.0), LOAD, 60) is None
    assert align(np.arange(50.0) + 1e6, np.arange(50.0), LOAD, 60) is None
    flat = align(np.arange(240.0), np.ones(240), LOAD, 60)
    assert flat is None or not flat.is_clear
    with pytest.raises(CoreInputError, match="same shape"):
        align(np.arange(3.0), np.arange(4.0), LOAD, 60)


def test_gaps_are_left_out() -> None:
    times, values = recorded(30, 1.0)
    values[50:60] = np.nan
    found = align(times, values, LOAD, 120)
    assert found is not None
    assert found.offset_s == pytest.approx(30, abs=2.0)
