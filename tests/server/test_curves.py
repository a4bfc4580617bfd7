"""The curves that the laws draw through a run's levels: there once the findings bear them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from django.test import Client

from stonekettle.core import analysis
from stonekettle.core.distribution import Law
from stonekettle.core.orders import as_planned
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate
from stonekettle.report import findings
from stonekettle.server.runs import analysing
from stonekettle.server.runs.models import Run
from tests.conftest import ROUTE, climb, one_server_system, visits

pytestmark = pytest.mark.django_db


def test_curves_are_told_once_there_are_levels_to_draw_them_through(
    client: Client, make_run: Callable[..., Run]
) -> None:
    run = make_run(40, state="finished", begun_at=7.0)
    nothing: dict[str, Any] = {name: [] for name in ("loads", "bounds", "throughput", "response_s", "scalability")}
    nothing |= {"contention": 0.0, "coherency": 0.0}
    assert client.get(f"/api/runs/{run.pk}/curves").json() == nothing
    analysing.analyse(run, state="finished", cause="done")
    assert client.get(f"/api/runs/{run.pk}/curves").json() == nothing  # one level is no curve
    profile = climb(20, 180, 20)
    found = analysis.analyse(
        simulate(one_server_system(20, servers=2), visits(1.0), profile, seed=2), as_planned(profile), (), 0.05
    )
    run.result["findings"] = findings.write(found)
    run.save()
    told = client.get(f"/api/runs/{run.pk}/curves").json()
    assert told["loads"][0] == pytest.approx(20, rel=0.05)
    assert told["loads"][-1] == pytest.approx(180, rel=0.05)
    assert {len(told[name]) for name in ("loads", "bounds", "throughput", "response_s")} == {80}
    assert told["scalability"] == []  # they think
    journeys = [TwinJourney("visit", 1.0, (TwinStep(ROUTE, Law("fixed", 0.0)),))]
    at_work = climb(1, 7, 1, 20)
    busy = simulate(one_server_system(20, servers=4), journeys, at_work, seed=2)
    run.result["findings"] = findings.write(analysis.analyse(busy, as_planned(at_work), (), 0.05))
    run.save()
    told = client.get(f"/api/runs/{run.pk}/curves").json()
    assert told["scalability"][-1] == pytest.approx(200, rel=0.1)
    run.result["findings"] = {"old": True}
    run.save()
    assert client.get(f"/api/runs/{run.pk}/curves").json() == nothing
