"""Random systems with a known truth: a small sample of what ``kettle bench truth`` measures."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.cli.bench import truth, unfit


@pytest.fixture(scope="module")
def outcomes() -> list[truth.Outcome]:
    jobs = [("saturated", s) for s in range(8)] + [("far", s) for s in range(4)] + [("pool", s) for s in range(4)]
    return [truth.judge(truth.make_case(kind, seed), comfort=False) for kind, seed in jobs]


def test_saturation_is_close_to_the_truth(outcomes: list[truth.Outcome]) -> None:
    errors = [o.users_error for o in outcomes if o.users_error is not None]
    assert len(errors) >= 10
    assert np.median(errors) < 0.025
    assert max(errors) < 0.10


def test_nothing_is_claimed_far_from_saturation(outcomes: list[truth.Outcome]) -> None:
    assert not any(o.claimed for o in outcomes if o.kind == "far")


def test_the_limiting_resource_is_right(outcomes: list[truth.Outcome]) -> None:
    assert all(o.limit_right for o in outcomes)


@pytest.mark.parametrize("pattern", unfit.PATTERNS)
def test_an_unfit_generator_widens_claims_and_does_not_falsify_them(pattern: str) -> None:
    found = [unfit.examine((pattern, seed, 0, None)) for seed in (1, 3, 5)]
    covered = [o.covered["N*"] for o in found if o.covered["N*"] is not None]
    assert covered.count(False) <= 1
    if pattern != "loop at 100 %":
        assert not any(o.generator for o in found)


def test_runs_limited_by_their_generator_are_called_so() -> None:
    assert all(unfit.examine((unfit.LIMITED, seed, 0, None)).generator for seed in (1, 3, 5))


def test_figures_are_made_of_outcomes(outcomes: list[truth.Outcome]) -> None:
    figures = {f.name: f for f in truth.figures_of(outcomes)}
    assert figures["false claims far from saturation"].met
    assert figures["saturation point N*, median / p90 error"].value.endswith(")")
