"""The season that comes with the product: a story that holds together."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from stonekettle.core.analysis import VERSION
from stonekettle.report.result import FORMAT_VERSION
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import archive, demo, played, season
from stonekettle.server.runs.models import Run
from stonekettle.server.series import season as turns
from tests.server.acting import TESTS

pytestmark = pytest.mark.django_db


@pytest.fixture
def experiments(planner: User) -> dict[str, Experiment]:
    made = demo.describe(TESTS)
    season.seed(TESTS, made)
    return {one.name: one for one in made}


def of(client: Client, experiment: Experiment) -> Any:
    return client.get(f"/api/experiments/{experiment.pk}/history").json()


def test_the_season_tells_its_story(client: Client, experiments: dict[str, Experiment]) -> None:
    assert Run.objects.filter(seeded=True, simulated=True, kept=True).count() == len(season.CHAPTERS)
    told = of(client, experiments["Weekly check"])
    slower, mended, bigger = told["events"]
    assert slower["different"] == ["planner version 3.1 → 3.2"]
    assert [line.split(" (")[0].rsplit(" ", 3)[0] for line in slower["changes"]] == [
        "Trip search p95",
        "`planner` CPU per step",
    ]
    assert slower["changes"][0].split()[5] == "slower"
    assert mended["different"] == ["planner version 3.2 → 3.3"]
    assert bigger["different"] == ["ledger instance type harbour-4d → harbour-6d"]
    assert any(line.startswith("Cost of a million steps") for line in bigger["changes"])
    assert told["sentence"].startswith("Since ")
    left_out = [run for run in told["runs"] if run["left_out"]]
    assert len(left_out) == 2
    drawn = {run for figure in told["figures"] for run in figure["runs"]}
    assert drawn.isdisjoint(run["id"] for run in left_out)
    assert told["figures"][0]["shifted"] == [bigger["run"]]
    festival = of(client, experiments["Harbour festival"])
    assert "Comfort limit" in festival["sentence"]
    assert "higher" in festival["sentence"]
    assert of(client, experiments["Quick look"])["sentence"] == "No run of it has findings yet."


def test_what_its_steps_did_is_told_as_far_as_it_was_kept(client: Client, experiments: dict[str, Experiment]) -> None:
    run = Run.objects.filter(seeded=True, revision__experiment=experiments["Weekly check"]).order_by("pk")[0]
    lines = {line["name"]: line for line in client.get(f"/api/runs/{run.pk}/steps").json()["lines"]}
    assert run.result
    assert lines["All steps"]["count"] == run.result["totals"]["steps"]
    assert lines["Home page"]["count"] > 1000
    assert 0.001 < lines["Home page"]["mean_s"] < lines["Buy ticket"]["mean_s"] < 1
    assert (lines["Home page"]["p95_s"], lines["Home page"]["received"]) == (None, None)
    assert "no single response times" in client.get(f"/api/runs/{run.pk}/distribution").json()["detail"]
    room = client.get(f"/api/runs/{run.pk}/more-users").json()
    assert room["extrapolated"]
    assert 340 < room["crossing"]["value"] < 460
    assert "no single response times" in client.get(f"/api/runs/{run.pk}/more-users?index=apdex").json()["detail"]


def test_each_run_is_judged_by_the_baseline_of_its_time(client: Client, experiments: dict[str, Experiment]) -> None:
    lines = {run["id"]: run for run in client.get("/api/runs").json()["runs"]}
    weekly = sorted(key for key, run in lines.items() if run["experiment"] == "Weekly check")
    first, slow = weekly[0], weekly[7]
    assert lines[first]["against"] is None
    assert lines[slow]["against"]["run"] == first
    assert lines[slow]["against"]["verdict"] == "slower"
    assert "Trip search" in lines[slow]["against"]["sentence"]
    assert "`planner` CPU per step" in lines[slow]["against"]["sentence"]
    assert lines[weekly[-1]]["against"]["run"] not in (first, weekly[-1])
    blurred = next(run for run in lines.values() if run["verdict"].startswith("Not trustworthy"))
    assert blurred["against"]["verdict"] == "inconclusive"
    assert "is not trustworthy" in blurred["against"]["sentence"]
    stopped = [run for run in lines.values() if run["state"] == "stopped"]
    assert ["Buy ticket" in run["cause"] for run in stopped] == [True]
    baselines = client.get(f"/api/experiments/{experiments['Weekly check'].pk}/baselines").json()
    assert [line["until"] is None for line in baselines] == [True, False]
    assert baselines[1]["until"] == baselines[0]["since"]


def test_a_run_of_it_opens_and_says_what_it_is(client: Client, experiments: dict[str, Experiment]) -> None:
    run = Run.objects.filter(revision__experiment=experiments["Weekly check"]).order_by("pk")[7]
    told = client.get(f"/api/runs/{run.pk}").json()
    assert (told["seeded"], told["simulated"], told["remark"][:11]) == (True, True, "planner 3.2")
    assert told["transitions"][0]["cause"].startswith("Played in virtual time")
    plate = client.get(f"/api/runs/{run.pk}/plate").json()
    assert plate["bin_s"] == archive.EVERY
    assert max(plate["users"]) == pytest.approx(330, abs=2)
    assert {"planner.cpu", "ledger.disk"} <= {resource["key"] for resource in plate["resources"]}
    export = client.get(f"/api/runs/{run.pk}/result.json").json()
    assert (export["seeded"], export["against"]["verdict"]) == (True, "slower")
    asked = client.post(f"/api/runs/{run.pk}/exports", {"what": "seconds.csv"}, "application/json").json()
    assert "its single seconds and requests did not come with it" in asked["detail"]


def test_the_file_is_of_this_version(experiments: dict[str, Experiment]) -> None:
    """Where this fails, ``./kettle season`` makes it anew."""
    for run in Run.objects.filter(seeded=True):
        assert run.result["format"] == FORMAT_VERSION
        assert run.analysis_version == VERSION


def test_what_is_packed_comes_back(client: Client, planner: User) -> None:
    (quick, *_) = demo.describe(TESTS)
    run = played.play(quick, timezone.now() - timedelta(days=3), seed=4)
    run.refresh_from_db()
    again = archive.unpack(archive.pack(run), quick, timezone.now() - timedelta(days=3))
    one, other = (client.get(f"/api/runs/{key}/facts.csv").content for key in (run.pk, again.pk))
    assert one == other
    whole = client.get(f"/api/runs/{run.pk}/plate", {"from_s": 0, "until_s": 84}).json()
    coarse = client.get(f"/api/runs/{again.pk}/plate").json()
    assert (whole["bin_s"], coarse["bin_s"]) == (1, archive.EVERY)
    assert coarse["users"][2] == pytest.approx(sum(whole["users"][20:30]) / 10, rel=1e-3)


def test_its_candidates_took_turns_and_the_better_one_is_found(
    client: Client, experiments: dict[str, Experiment]
) -> None:
    made, _ = turns.seed(list(experiments.values()))
    told = client.get(f"/api/series/{made.pk}").json()
    assert (told["state"], told["seeded"], told["over"], told["turns"]) == ("finished", True, 10, 10)
    assert all(line["state"] == "finished" for line in told["lines"])
    found = client.get(f"/api/series/{made.pk}/findings").json()
    assert found["sentence"].startswith("planner 3.4 against planner 3.3: Faster: Trip search")
    assert "`planner` CPU per step" in found["sentence"]
    assert found["between"][0]["blocks"] == [1, 2, 3, 4, 5]
    assert client.get(f"/api/experiments/{made.experiment_id}/history").json()["runs"] == []
