"""Rehearsals over the API: played in seconds, marked everywhere, and refused with reasons."""

from __future__ import annotations

import re
from typing import Any

import pytest
from django.test import Client

from stonekettle.core.analysis import Analysis
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.saturation import Saturation
from stonekettle.report import numbers as n
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import played, plays
from stonekettle.server.runs.models import Run
from stonekettle.server.systems import rules as systems
from tests.server.acting import TESTS
from tests.server.conftest import QUICK

ELSEWHERE = QUICK.replace("practice://gateway\n", "http://127.0.0.1:9\n").replace("practice://", "http://127.0.0.1:9/")


def rehearse(client: Client, experiment: Experiment) -> Any:
    """The key of the run, or the problem."""
    return client.post(f"/api/experiments/{experiment.pk}/rehearsals").json()


@pytest.fixture
def short(planner: Any) -> Experiment:
    return experiments.create(TESTS, QUICK)


def test_a_rehearsal_is_a_run_that_says_what_it_is(client: Client, short: Experiment) -> None:
    run = client.get(f"/api/runs/{rehearse(client, short)['id']}").json()
    assert (run["state"], run["simulated"], run["result"]["simulated"]) == ("finished", True, True)
    cause = run["transitions"][0]["cause"]
    assert cause.startswith("Played in virtual time against a simulation of the practice system. It is the middle one")
    assert run["result"]["findings"]["limiting"]["resource"]["key"] == "ledger.cpu"
    assert client.get("/api/runs").json()["runs"][0]["simulated"]
    assert client.get("/api/experiments").json()[0]["last_run_simulated"]
    plate = client.get(f"/api/runs/{run['id']}/plate").json()
    assert len(plate["start"]) == 84
    (deed,) = client.get(f"/api/deeds?kind=run&object_id={run['id']}").json()["deeds"]
    assert deed["did"] == "rehearsed"


def test_of_three_plays_the_middle_one_is_kept_and_how_far_they_lie_apart_is_told(
    client: Client, short: Experiment, monkeypatch: pytest.MonkeyPatch
) -> None:
    found: list[Analysis] = []
    read = plays.read
    monkeypatch.setattr(plays, "read", lambda plan, played: found.append(read(plan, played)) or found[-1])
    run = client.get(f"/api/runs/{rehearse(client, short)['id']}").json()
    loads = [one.saturation.load.value for one in found if isinstance(one.saturation, Saturation)]
    limits = [one.comfort.load.value for one in found if isinstance(one.comfort, ComfortLimit)]
    assert len(set(loads)) == len(set(limits)) == 3
    kept = run["result"]["findings"]
    # What is kept is read once more from what was stored of it, in which times are rounded.
    assert min(limits, key=lambda limit: abs(limit - kept["comfort"]["load"]["value"])) == sorted(limits)[1]
    assert run["transitions"][0]["cause"].endswith(
        f"the middle one of 3 plays, each with its own chance: they found comfort limits from {n.amount(min(limits))} "
        f"to {n.amount(max(limits))} users and saturation from {n.amount(min(loads))} to {n.amount(max(loads))} users."
    )
    assert client.get(f"/api/runs/{rehearse(client, short)['id']}").json()["result"]["findings"] != kept


def test_one_of_many_steps_is_played_once(client: Client, short: Experiment, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(played, "MOST_STEPS_AGAIN", 100)
    run = client.get(f"/api/runs/{rehearse(client, short)['id']}").json()
    assert run["transitions"][0]["cause"] == "Played in virtual time against a simulation of the practice system."


def test_a_real_run_may_go_on_meanwhile(client: Client, short: Experiment) -> None:
    client.post(f"/api/experiments/{short.pk}/runs")
    assert rehearse(client, short)["id"]


def test_a_system_nothing_is_known_of_is_refused_with_what_to_do(client: Client, planner: Any) -> None:
    problem = rehearse(client, experiments.create(TESTS, ELSEWHERE))
    assert problem["status"] == 409
    assert "Run an experiment of it with meters at a few light levels first" in problem["detail"]


def test_what_a_run_measured_makes_the_twin(client: Client, short: Experiment, planner: Any) -> None:
    """A run elsewhere that found demands; rehearsals of other experiments of that place are played against them."""
    first = Run.objects.get(pk=rehearse(client, short)["id"])
    other = experiments.create(TESTS, ELSEWHERE)
    measured = {**first.result, "simulated": False}  # as if it had been measured there
    Run.objects.filter(pk=first.pk).update(simulated=False, target="http://127.0.0.1:9", result=measured)
    found = rehearse(client, other)["id"]
    run = client.get(f"/api/runs/{found}").json()
    assert f"the service demands that run {first.pk} measured" in run["transitions"][0]["cause"]
    assert run["result"]["findings"]["limiting"]["resource"]["key"] == "ledger.cpu"


def test_what_would_take_too_long_or_is_archived_is_refused(client: Client, short: Experiment) -> None:
    long = experiments.create(TESTS, QUICK.replace("hold: {users: 45, for: 12 s}", "hold: {users: 9000, for: 9 h}"))
    assert "Rehearse a copy of it with shorter levels" in rehearse(client, long)["detail"]
    experiments.drafts.archive(TESTS, short)
    assert "is archived" in rehearse(client, short)["detail"]


def test_a_plan_that_is_sound_no_more_says_what_is_wrong(client: Client, planner: Any) -> None:
    named = QUICK[: QUICK.index("system:")] + "system: Mill\n\n" + QUICK[QUICK.index("feeds:") :]

    mill = systems.create(TESTS, {"name": "Mill", "base_url": "practice://gateway"})
    experiment = experiments.create(TESTS, named)
    mill.delete()
    problem = rehearse(client, experiment)
    assert problem["problems"][0]["message"] == "there is no system named 'Mill'."


def test_longer_levels_are_played_once_more_and_told_beside_what_was(client: Client, short: Experiment) -> None:
    run = rehearse(client, short)["id"]
    count = Run.objects.count()
    # A job's outcome of one part is told as its key.
    told = client.post(f"/api/runs/{run}/longer").json()["id"]
    lengths = "levels of 24 s, 2 min 48 s in all, instead of levels of 12 s, 1 min 24 s"
    assert told.startswith(f"With everything twice as long ({lengths}) a run would tell the comfort limit within ±")
    width, users = r"±\d+(\.\d+)? %", r"\(\d+–\d+ users\)"
    for subject in ("the comfort limit", "saturation"):
        assert re.search(f"{subject} within {width} {users} instead of {width}", told), told
    assert Run.objects.count() == count
    Run.objects.filter(pk=run).update(simulated=False)
    assert "Only a rehearsal" in client.post(f"/api/runs/{run}/longer").json()["detail"]


def test_two_runs_are_compared_by_their_facts(client: Client, short: Experiment) -> None:
    first = rehearse(client, short)["id"]
    dearer = experiments.create(TESTS, QUICK.replace("Quick look", "Once more").replace("weight: 50", "weight: 60"))
    second = rehearse(client, dearer)["id"]
    told = client.get(f"/api/runs/{second}/against/{first}").json()
    assert (told["first"]["id"], told["second"]["id"]) == (first, second)
    assert told["sentence"].split(":")[0] in ("No difference", "Inconclusive", "Slower", "Faster")
    assert told["loads"][0] == pytest.approx(30, rel=0.05)
    assert {"weight": "compared", "text": "Weight of Check departures 50 → 60."} in told["apart"]
    buy = next(line for line in told["figures"] if (line["figure"], line["subject"][-10:]) == ("mean", "Buy ticket"))
    assert buy["ratio"]["low"] < buy["ratio"]["value"] < buy["ratio"]["high"]
    assert len(buy["by_load"]["load"]) == len(told["loads"]) == 7
    assert "with another one" in client.get(f"/api/runs/{first}/against/{first}").json()["detail"]
    assert client.get(f"/api/runs/{first}/against/999999").status_code == 404
