"""Troubles that begin in the middle of a run are told of soon, and of healthy runs nothing is."""

from __future__ import annotations

import pytest

from stonekettle.cli.bench.anomalies import HEALTHY, Trouble, examine


@pytest.mark.parametrize("kind", ["ordinary", "mixes", "slow", "pool", "errors under overload", "refusals"])
def test_of_a_healthy_run_nothing_is_said(kind: str) -> None:
    assert not examine((HEALTHY.index(kind), None)).said


@pytest.mark.parametrize("trouble", ["slow instance", "leak", "noisy neighbour"])
def test_a_trouble_is_told_of_within_a_minute(trouble: Trouble) -> None:
    watched = examine((500, trouble))
    assert 0 < watched.after_s <= 60
    assert not watched.false
