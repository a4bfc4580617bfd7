"""What a run cost, asked of the demo's season and of a system without prices."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from django.contrib.auth.models import User
from django.test import Client

from stonekettle.server.runs import analysing, demo, season
from stonekettle.server.runs.models import Run
from tests.server.acting import TESTS

pytestmark = pytest.mark.django_db


def test_a_run_costs_its_hours_and_a_step_its_share_of_them(client: Client, planner: User) -> None:
    season.seed(TESTS, demo.describe(TESTS))
    run = Run.objects.filter(seeded=True, revision__experiment__name="Harbour festival").order_by("pk")[0]
    told = client.get(f"/api/runs/{run.pk}/cost").json()
    assert run.result
    hours = run.result["totals"]["duration_s"] / 3600
    assert told["run"] == pytest.approx(told["per_hour"] * hours)
    assert (told["currency"], told["simulated"], told["unpriced"]) == ("EUR", True, [])
    at = told["at_load"]
    limit = run.result["findings"]["comfort"]
    assert (at["at"], at["at_most"]) == ("comfort limit", False)
    assert at["user_month"]["value"] == pytest.approx(told["per_hour"] * 730.5 / limit["load"]["value"])
    assert at["thousand_steps"]["value"] == pytest.approx(told["per_hour"] / 3.6 / limit["throughput"], rel=0.02)


def test_generators_that_have_a_price_cost_as_long_as_the_run_lasts(
    client: Client, make_run: Callable[..., Run]
) -> None:
    run = make_run(20, state="finished", begun_at=1.0)
    analysing.analyse(run, state="finished", cause="")
    system = {**run.plan_document["system"], "components": [{"name": "a", "instance_type": {"price_per_hour": 0.2}}]}
    document = {**run.plan_document, "system": system}
    Run.objects.filter(pk=run.pk).update(plan_document=document, begun_at=2.0)
    answer = client.get(f"/api/runs/{run.pk}/cost")
    assert answer.status_code == 200, answer.content
    assert answer.json()["generators"] is None
    priced = {**document, "generators": {"price_per_hour": 1.8}}
    # The plan of a run that has begun is read once: another beginning is another run.
    Run.objects.filter(pk=run.pk).update(plan_document=priced, begun_at=3.0)
    assert run.result
    hours = run.result["totals"]["duration_s"] / 3600
    told = client.get(f"/api/runs/{run.pk}/cost").json()
    # There was one.
    assert told["generators"] == pytest.approx(1.8 * hours)
    assert told["run"] == pytest.approx(0.2 * hours)


def test_without_prices_or_a_result_nothing_is_told(client: Client, make_run: Callable[..., Run]) -> None:
    run = make_run(5)
    answer = client.get(f"/api/runs/{run.pk}/cost")
    assert answer.status_code == 409
    assert "has a price" in answer.json()["detail"] or "no result yet" in answer.json()["detail"]
