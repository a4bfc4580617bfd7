"""Baselines, remarks and histories of measured runs."""

from __future__ import annotations

from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import analysing, baselines, histories, played
from stonekettle.server.runs.models import Run, RunFact
from tests.server.acting import TESTS
from tests.server.conftest import QUICK

pytestmark = pytest.mark.django_db
SHORT = QUICK.replace("to: 180, by: 30, every: 12 s", "to: 60, by: 30, every: 12 s")


@pytest.fixture
def experiment(planner: User) -> Experiment:
    return experiments.create(TESTS, SHORT)


def measured(experiment: Experiment, seed: int) -> Run:
    """A run as if it had been measured."""
    run = played.play(experiment, timezone.now(), seed)
    Run.objects.filter(pk=run.pk).update(simulated=False)
    run.refresh_from_db()
    return run


def get(client: Client, path: str) -> Any:
    return client.get(f"/api{path}").json()


def test_a_run_is_taken_as_baseline_and_the_next_is_judged_by_it(client: Client, experiment: Experiment) -> None:
    first, second = measured(experiment, 1), measured(experiment, 2)
    assert get(client, f"/runs/{second.pk}")["baseline"] is None
    assert client.post(f"/api/runs/{first.pk}/baseline").status_code == 204
    told = get(client, f"/runs/{second.pk}")
    assert (told["baseline"], told["against"]) == (first.pk, None)
    analysing.analyse(second, state="finished", cause="")
    against = get(client, f"/runs/{second.pk}")["against"]
    assert against["run"] == first.pk
    assert against["verdict"] in ("no difference", "inconclusive")
    assert get(client, f"/runs/{second.pk}/result.json")["against"] == against
    assert get(client, "/runs")["runs"][0]["against"] == against
    # Another one comes in its place; what was said stays, also when the run is analysed anew.
    third = measured(experiment, 3)
    client.post(f"/api/runs/{third.pk}/baseline")
    analysing.analyse(second, state="finished", cause="")
    second.refresh_from_db()
    assert second.against["run"] == first.pk
    told = get(client, f"/experiments/{experiment.pk}/baselines")
    assert [(line["run"], line["until"] is None) for line in told] == [(third.pk, True), (first.pk, False)]
    client.delete(f"/api/runs/{third.pk}/baseline")
    assert get(client, f"/runs/{second.pk}")["baseline"] is None


def test_what_tells_nothing_is_no_baseline(client: Client, experiment: Experiment, make_run: Any) -> None:
    rehearsal = played.play(experiment, timezone.now(), 1)
    refused = client.post(f"/api/runs/{rehearsal.pk}/baseline").json()
    assert "is a rehearsal: a baseline has to be measured" in refused["detail"]
    empty = make_run(0, state="failed", result=None)
    assert "has no findings" in client.post(f"/api/runs/{empty.pk}/baseline").json()["detail"]
    gone = measured(experiment, 2)
    Run.objects.filter(pk=gone.pk).update(deleted_at=timezone.now())
    assert "is deleted" in client.post(f"/api/runs/{gone.pk}/baseline").json()["detail"]


def test_a_baseline_that_is_deleted_is_none(client: Client, experiment: Experiment) -> None:
    run = measured(experiment, 1)
    baselines.take(TESTS, run)
    Run.objects.filter(pk=run.pk).update(deleted_at=timezone.now())
    assert baselines.in_force(experiment.pk, seeded=False) is None
    assert get(client, f"/experiments/{experiment.pk}/baselines") == []


def test_rehearsals_are_not_judged_and_stand_in_no_history(client: Client, experiment: Experiment) -> None:
    baselines.take(TESTS, measured(experiment, 1))
    rehearsal = played.play(experiment, timezone.now(), 2)
    assert rehearsal.against is None
    assert get(client, f"/runs/{rehearsal.pk}")["baseline"] is None
    assert rehearsal.pk not in [run["id"] for run in get(client, f"/experiments/{experiment.pk}/history")["runs"]]


def test_a_run_without_a_load_in_common_is_not_comparable(client: Client, experiment: Experiment) -> None:
    base, other = measured(experiment, 1), measured(experiment, 2)
    baselines.take(TESTS, base)
    RunFact.objects.filter(run=base, figure="load").update(value=9000)
    baselines.judge(other)
    other.refresh_from_db()
    assert other.against["verdict"] == "not comparable"
    assert "no load in common" in other.against["sentence"]


def test_what_is_noted_is_told_and_kept_in_mind(client: Client, experiment: Experiment) -> None:
    run = measured(experiment, 1)
    assert (
        client.put(f"/api/runs/{run.pk}/remark", {"remark": " after the move "}, "application/json").status_code == 204
    )
    client.put(f"/api/runs/{run.pk}/left-out", {"why": "the disk was full"}, "application/json")
    told = get(client, f"/runs/{run.pk}")
    assert (told["remark"], told["left_out"]) == ("after the move", "the disk was full")
    (line,) = get(client, f"/experiments/{experiment.pk}/history")["runs"]
    assert (line["remark"], line["left_out"]) == ("after the move", "the disk was full")
    deeds = get(client, f"/deeds?kind=run&object_id={run.pk}")["deeds"]
    assert [deed["did"] for deed in deeds[:2]] == ["changed what is left out:", "noted of"]
    client.put(f"/api/runs/{run.pk}/left-out", {"why": ""}, "application/json")
    assert get(client, f"/runs/{run.pk}")["left_out"] == ""
    long = client.put(f"/api/runs/{run.pk}/remark", {"remark": "x" * 501}, "application/json")
    assert long.status_code == 422


def test_the_history_reads_response_times_at_one_load(client: Client, experiment: Experiment) -> None:
    runs = [measured(experiment, seed) for seed in (1, 2)]
    told = get(client, f"/experiments/{experiment.pk}/history")
    assert told["loads"] == [30, 45, 60]
    assert told["sentence"] == "2 runs so far: from 6 on it can be told whether something shifted."
    buy = next(one for one in told["figures"] if one["name"] == "Buy ticket p95")
    assert buy["runs"] == [run.pk for run in runs]
    light = get(client, f"/experiments/{experiment.pk}/history?load=30")
    assert light["load"] == 30
    at_light = next(one for one in light["figures"] if one["name"] == "Buy ticket p95")
    fact = RunFact.objects.get(run=runs[0], level=1, figure="p95", subject__endswith="Buy ticket")
    assert at_light["value"][0] == pytest.approx(fact.value)
    assert get(client, f"/experiments/{experiment.pk}/history?load=31.7")["load"] == told["load"]
    assert client.get(f"/api/experiments/{experiment.pk}/history?load=0").status_code == 422


def test_where_the_practice_system_listens_is_no_difference(client: Client, experiment: Experiment) -> None:
    """Its ports are others at each start; those of a system of one's own are told."""
    runs = [measured(experiment, seed) for seed in (1, 2)]
    for port, run in enumerate(runs, start=41000):
        system = {**run.plan_document["system"], "base_url": f"http://127.0.0.1:{port}"}
        run.plan_document = {**run.plan_document, "system": system}
        run.begun_at = float(port)  # a plan is read once for each start
        run.save()
    path = f"/runs/{runs[1].pk}/against/{runs[0].pk}"
    assert get(client, path)["apart"] == []
    Run.objects.update(target="http://127.0.0.1:41000")
    (line,) = get(client, path)["apart"]
    assert line["text"] == "Address http://127.0.0.1:41000 → http://127.0.0.1:41001."


def test_the_history_of_a_system_is_that_of_its_experiments(client: Client, planner: User) -> None:
    from stonekettle.server.runs import demo

    quick, *_ = demo.describe(TESTS)
    assert get(client, f"/systems/{quick.system_id}/history") == []
    measured(quick, 1)
    (told,) = get(client, f"/systems/{quick.system_id}/history")
    assert told["experiment"] == "Quick look"


def test_a_long_history_says_what_it_leaves_out(
    client: Client, experiment: Experiment, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = measured(experiment, 1)
    for seed in (2, 3):
        measured(experiment, seed)
    assert get(client, f"/experiments/{experiment.pk}/history")["earlier"] == 0
    monkeypatch.setattr(histories, "MOST_RUNS", 2)
    told = get(client, f"/experiments/{experiment.pk}/history")
    assert (told["earlier"], first.pk in [run["id"] for run in told["runs"]]) == (1, False)
