"""Random systems with a known truth: a small sample of what ``kettle bench truth`` measures."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.cli.bench import truth, unfit
from stonekettle.cli.bench.conditions import CONDITIONS, make
from stonekettle.core.analysis import analyse
from stonekettle.core.objectives import ComfortLimit, Objective
from stonekettle.core.orders import as_planned
from stonekettle.practice.twin import simulate

LOOKED_AT = {
    *("ordinary", "far", "pool", "mixes", "short levels", "warming", "drift", "periodic job"),
    *("few users", "pool without metrics", "lock"),  # by searches
}


@pytest.fixture(scope="module")
def outcomes() -> list[truth.Outcome]:
    jobs = [("ordinary", s) for s in range(8)] + [("far", s) for s in range(4)] + [("pool", s) for s in range(4)]
    return [truth.judge(make(kind, seed), comfort=False) for kind, seed in jobs]


def test_saturation_is_close_to_the_truth(outcomes: list[truth.Outcome]) -> None:
    errors = [o.users.error for o in outcomes if o.users is not None]
    assert len(errors) >= 10
    assert np.median(errors) < 0.025
    assert max(errors) < 0.10


def test_nothing_is_claimed_far_from_saturation(outcomes: list[truth.Outcome]) -> None:
    assert not any(o.claimed for o in outcomes if o.kind == "far")


def test_the_limiting_resource_is_right(outcomes: list[truth.Outcome]) -> None:
    assert all(o.limit_right for o in outcomes)


def test_steps_that_differ_do_not_pass_for_a_few_long_services() -> None:
    """What a step costs varies more where only some ask a resource: the curve is known all the same."""
    widths = []
    for seed in range(6):
        case = make("mixes", seed)
        run = simulate(case.config, case.journeys, case.profile, seed=seed + 1)
        goal = Objective(1, "response", case.goal_s, 95.0)
        limit = analyse(run, as_planned(case.profile), [goal], 0.05).comfort
        if isinstance(limit, ComfortLimit) and limit.status == "found" and limit.load is not None:
            widths.append((limit.load.high - limit.load.low) / limit.load.value)
    assert len(widths) >= 4
    assert np.median(widths) < 0.25


@pytest.mark.parametrize("pattern", unfit.PATTERNS)
def test_an_unfit_generator_widens_claims_and_does_not_falsify_them(pattern: str) -> None:
    found = [unfit.examine((pattern, seed, 0, None)) for seed in (1, 3, 5)]
    covered = [o.covered["N*"] for o in found if o.covered["N*"] is not None]
    assert covered.count(False) <= 1
    if pattern != "loop at 100 %":
        assert not any(o.generator for o in found)


def test_runs_limited_by_their_generator_are_called_so() -> None:
    assert all(unfit.examine((unfit.LIMITED, seed, 0, None)).generator for seed in (1, 3, 5))


@pytest.mark.parametrize("kind", ["ordinary", "short levels"])
def test_the_comfort_limit_is_close_to_the_truth_and_within_its_interval(kind: str) -> None:
    found = [judged for seed in range(4) if (judged := truth.judge(make(kind, seed)).comfort)]
    assert len(found) >= 3
    assert np.median([one.error for one in found]) < 0.05
    assert [one.covered for one in found].count(False) <= 1


@pytest.mark.parametrize("kind", ["warming", "drift", "periodic job"])
def test_what_changes_in_a_run_is_found(kind: str) -> None:
    outcomes = [truth.judge(make(kind, seed), comfort=False) for seed in range(4)]
    assert [o.change_found for o in outcomes].count(False) <= 1


def test_every_condition_has_a_truth_and_a_row() -> None:
    """Those that no other test looks at."""
    others = [kind for kind in CONDITIONS if kind not in LOOKED_AT]
    outcomes = [truth.judge(make(kind, 2), comfort=False) for kind in others]
    figures = {f.name: f for f in truth.figures_of(outcomes)}
    assert all(figures[kind].value.endswith("n 1") for kind in others)
    assert figures["changes said of systems that did not"].value.startswith("0.0%")


def test_figures_are_made_of_outcomes(outcomes: list[truth.Outcome]) -> None:
    figures = {f.name: f for f in truth.figures_of(outcomes)}
    assert figures["false claims far from saturation"].met
    assert figures["all: saturation point N*, median / p90 error"].value.endswith(")")
