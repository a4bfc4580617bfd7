"""Forecasts over the API: by what is known, beside what was seen, or why there is none."""

from __future__ import annotations

from typing import Any

import pytest
from django.test import Client

from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import played
from stonekettle.server.runs.models import Run
from tests.server.acting import TESTS
from tests.server.conftest import QUICK

ELSEWHERE = QUICK.replace("practice://gateway\n", "http://127.0.0.1:9\n").replace("practice://", "http://127.0.0.1:9/")


def asked(client: Client, experiment: Experiment) -> Any:
    return client.get(f"/api/experiments/{experiment.pk}/forecast").json()


def test_the_practice_systems_limit_is_known_before_any_load(client: Client, experiment: Experiment) -> None:
    answer = asked(client, experiment)
    told = answer["forecast"]
    assert told["saturation"] == pytest.approx(102, abs=1)
    assert (told["limiting"], told["measured_to"], answer["seen"]) == ("ledger.cpu", None, [])
    assert told["load"][-1] == 180
    assert told["utilisation"]["ledger.cpu"][-1] == pytest.approx(1, abs=0.01)
    assert "practice system" in told["words"]


def arriving(text: str, peak: int) -> str:
    climb = f"climb: {{from: 5, to: {peak}, by: 5, every: 10 s}}"
    return text[: text.index("load:")] + f"groups:\n  - {{name: callers, arrivals: [{{{climb}}}]}}\n"


def test_people_who_arrive_have_a_forecast_in_their_unit(client: Client, experiment: Experiment, planner: Any) -> None:
    by_users = asked(client, experiment)["forecast"]
    told = asked(client, experiments.create(TESTS, arriving(QUICK, 200)))["forecast"]
    assert (told["kind"], told["unit"], told["limiting"]) == ("arrivals", "arrivals/s", "ledger.cpu")
    # Its limit in steps per second is the same whoever comes.
    at = next(i for i, rate in enumerate(told["load"]) if rate > told["saturation"])
    assert told["throughput"]["value"][at] == pytest.approx(max(by_users["throughput"]["value"]), rel=0.02)
    assert told["response_s"]["value"][at] is None
    assert told["response_s"]["value"][0] < 0.1 < max(v for v in told["response_s"]["value"] if v is not None)
    # Of a measured system it is told up to which rate that was.
    run = played.rehearse(TESTS, experiment)
    measured = {**(run.result or {}), "simulated": False}  # as if it had been measured there
    Run.objects.filter(pk=run.pk).update(simulated=False, target="http://127.0.0.1:9", result=measured)
    there = asked(client, experiments.create(TESTS, arriving(ELSEWHERE, 200)))["forecast"]
    assert there["measured_to"] == pytest.approx(there["saturation"], rel=0.1)


def test_what_a_run_measured_is_told_with_its_band_and_where_it_ends(client: Client, experiment: Experiment) -> None:
    run = played.rehearse(TESTS, experiment)
    told = {**(run.result or {}), "simulated": False}  # as if it had been measured there
    Run.objects.filter(pk=run.pk).update(simulated=False, target="http://127.0.0.1:9", result=told)
    other = experiments.create(TESTS, ELSEWHERE.replace("to: 180", "to: 300"))
    found = asked(client, other)["forecast"]
    assert found["run"] == run.pk
    assert found["measured_to"] == pytest.approx(180, abs=2)
    assert found["saturation"] == pytest.approx(102, rel=0.1)
    assert found["saturation_low"] < found["saturation"] < found["saturation_high"]
    assert found["limiting"] == "ledger.cpu"
    assert found["throughput"]["low"][-1] < found["throughput"]["high"][-1]
    seen = asked(client, experiment)
    assert seen["seen_run"] == run.pk
    assert len(seen["seen"]) >= 6


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (ELSEWHERE, "Nothing is known yet of how much"),
        (
            QUICK[: QUICK.index("load:")]
            + "groups:\n  - {name: callers, arrivals: [{hold: {rate: 5, for: 1 min}}]}\n"
            + "  - {name: riders, users: [{hold: {users: 5, for: 1 min}}]}\n",
            "this load has both",
        ),
        (QUICK.replace("to: 180", "to: 9000"), "Forecasts go up to 5000 users"),
    ],
)
def test_where_there_is_none_it_says_why(client: Client, planner: Any, text: str, why: str) -> None:
    answer = asked(client, experiments.create(TESTS, text))
    assert answer["forecast"] is None
    assert why in answer["why_not"]
