"""How conclusions were computed: what the told numbers make is what was claimed."""

from __future__ import annotations

from dataclasses import replace

import pytest

from stonekettle.core import analysis
from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.load_profile import LoadProfile
from stonekettle.core.objectives import BreakingPoint, ComfortLimit
from stonekettle.core.orders import as_planned
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Declined, Estimate, Reason
from stonekettle.plan import document
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.twin import simulate
from stonekettle.report import explain
from stonekettle.report.explain import KINDS, Explained
from tests.conftest import PLAN_TEXT, climb, one_server_system, visits

PLAN = document.read(
    PLAN_TEXT.format(base="http://127.0.0.1:9", metrics="http://127.0.0.1:9/m", think="1 s", users=5, hold="20 s")
)


def analysed(config: PracticeConfig, profile: LoadProfile, think_s: float = 1.0) -> Analysis:
    run = simulate(config, visits(think_s), profile, seed=2)
    return analysis.analyse(run, as_planned(profile), document.core_objectives(PLAN), PLAN.error_limit)


@pytest.fixture(scope="module")
def saturating() -> Analysis:
    return analysed(one_server_system(20, servers=2), climb(20, 180, 20))


def told(kind: str, found: Analysis) -> Explained:
    explained = explain.explain(kind, found, PLAN, (100.0, "load"))
    assert explained is not None, kind
    return explained


def test_the_saturation_point_is_what_its_formula_makes(saturating: Analysis) -> None:
    found = saturating.saturation
    assert isinstance(found, Saturation)
    assert found.load is not None
    assert found.throughput is not None
    explained = told("saturation", saturating)
    assert [one.symbol for one in explained.numbers] == ["X_max", "R₁", "b₁", "Z", "s"]
    lone = found.light_response_s - saturating.levels[0].blind_s / 2
    assert found.throughput.value * (lone + found.think_s) == pytest.approx(found.load.value, rel=0.01)
    assert f"= {round(found.load.value)} users, 90 % interval" in explained.worked
    assert "Denning & Buzen 1978" in explained.source


def test_the_ceiling_is_what_its_formula_makes(saturating: Analysis) -> None:
    found = saturating.limiting
    assert isinstance(found, LimitingResource)
    assert found.resource is not None
    demand = found.resource.demand
    assert demand is not None
    assert demand.ceiling is not None
    full = (1 - demand.background) * demand.servers / demand.demand_s.value
    assert full == pytest.approx(demand.ceiling.value, rel=0.01)
    explained = told("limiting", saturating)
    assert "steps/s is where it is full" in explained.worked
    assert {one.symbol for one in explained.numbers} >= {"U", "m", "U₀", "D"}


def test_the_comfort_limit_shows_its_objective_at_every_level(saturating: Analysis) -> None:
    explained = told("comfort", saturating)
    assert explained.numbers[0].says == "95 % of page within 1 s"
    assert len(explained.numbers) == 1 + len(saturating.levels)
    assert explained.numbers[1].says == "at 20 users"
    assert explained.numbers[1].value.endswith(" ms")
    assert "It crosses the objective at" in explained.worked
    assert f"{len(saturating.levels)} levels after warm-up" in explained.data


def test_headroom_is_divided_as_it_says(saturating: Analysis) -> None:
    comfort = saturating.comfort
    assert isinstance(comfort, ComfortLimit)
    assert comfort.load is not None
    explained = told("headroom", saturating)
    assert f"{comfort.load.value - 100:+.0f} %" in explained.worked
    in_steps = explain.explain("headroom", saturating, PLAN, (50.0, "throughput"))
    assert in_steps is not None
    assert "steps/s / 50.0 steps/s" in in_steps.worked
    assert explain.explain("headroom", saturating, PLAN) is None


def test_what_was_not_reached_says_how_that_is_known() -> None:
    explained = told("saturation", analysed(one_server_system(20, servers=2), climb(10, 50, 10)))
    assert explained.worked == "It was not claimed up to 50 users."
    assert [one.symbol for one in explained.numbers] == ["X", "e"]


def test_every_kind_is_explained_or_declined(saturating: Analysis) -> None:
    broken = replace(saturating, breaking=BreakingPoint(0.05, 6, Estimate(120.0, 110.0, 130.0, 0.95), 0.12, None))
    for kind in KINDS:
        explained = told(kind, broken)
        assert explained.kind == kind
        assert explained.formula
        assert explained.limits
        assert "nan" not in explained.model_dump_json().lower().replace("planned", "")
    nothing = Declined(Reason.TOO_FEW_LEVELS)
    bare = replace(broken, saturation=nothing, comfort=nothing, breaking=nothing, limiting=nothing, little=())
    assert [kind for kind in KINDS if explain.explain(kind, bare, PLAN, (100.0, "load"))] == ["measuring"]
    assert explain.explain("else", bare, PLAN) is None
