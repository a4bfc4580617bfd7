"""The room above an expected peak, told with every run of the experiment."""

from __future__ import annotations

from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from stonekettle.server.experiments import rules as experiments
from stonekettle.server.runs import played
from stonekettle.server.runs.models import Run
from tests.server.acting import TESTS
from tests.server.conftest import QUICK

pytestmark = pytest.mark.django_db


@pytest.fixture
def run(planner: User) -> Run:
    return played.play(experiments.create(TESTS, QUICK), timezone.now(), 1)


def expect(client: Client, run: Run, **body: object) -> Any:
    path = f"/api/experiments/{run.revision.experiment_id}/peak"
    return client.put(path, body, content_type="application/json")


def told(client: Client, run: Run) -> dict[str, Any]:
    found: dict[str, Any] = client.get(f"/api/runs/{run.pk}").json()
    return found


def test_a_peak_is_held_against_the_limit_and_taken_off_again(client: Client, run: Run) -> None:
    assert (told(client, run)["peak"], told(client, run)["headroom"]) == (None, None)
    assert expect(client, run, amount=40).status_code == 204
    found = told(client, run)
    assert found["peak"] == 40
    assert found["headroom"]["title"].startswith("Headroom ")
    assert found["headroom"]["title"].endswith(" over the expected 40 users")
    assert found["headroom"]["grade"] == "holds"
    assert expect(client, run, amount=4000, told_in="throughput").status_code == 204
    short = told(client, run)["headroom"]
    assert "short of the expected 4 000 steps/s" in short["title"]
    assert short["grade"] == "broken"
    deeds = client.get("/api/deeds", {"kind": "experiment"}).json()["deeds"]
    assert [one["did"] for one in deeds].count("expected a peak") == 2
    assert expect(client, run, amount=None).status_code == 204
    assert told(client, run)["headroom"] is None


@pytest.mark.parametrize("amount", [0, -3, "many"])
def test_a_peak_that_is_no_load_is_refused_by_name_and_the_old_one_stands(
    client: Client, run: Run, amount: object
) -> None:
    expect(client, run, amount=40)
    answer = expect(client, run, amount=amount)
    assert answer.status_code == 422
    assert "amount" in answer.content.decode()
    assert told(client, run)["peak"] == 40


def test_findings_of_an_older_analysis_say_nothing_of_it(client: Client, run: Run) -> None:
    expect(client, run, amount=40)
    Run.objects.filter(pk=run.pk).update(result={**run.result, "findings": {"version": 1}})
    assert told(client, run)["headroom"] is None
