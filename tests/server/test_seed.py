"""Seeding: once, and never over what is there."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import Client

from stonekettle.door import house
from stonekettle.server.experiments.management.commands import seed_demo
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import played, season
from stonekettle.server.runs.models import Run
from stonekettle.server.series import season as turns
from stonekettle.server.systems.models import System

pytestmark = pytest.mark.django_db
NAMES = {"Quick look", "Harbour festival", "Weekly check", "Two planners", "More and more ledgers"}


@pytest.fixture
def seed(tmp_path: Path) -> Callable[..., None]:
    def seed(*more: str, password: str = "made-at-first-start") -> None:
        (tmp_path / "sign-in.txt").write_text(f"planner {password}\n")
        call_command("seed_demo", "--sign-in", str(tmp_path / "sign-in.txt"), *more)

    return seed


Seed = Callable[..., None]


@pytest.fixture(autouse=True)
def nothing_played(monkeypatch: pytest.MonkeyPatch) -> None:
    """Runs take some seconds to play, and the season some to bring in."""
    monkeypatch.setattr(seed_demo, "PLAYED", ())
    monkeypatch.setattr(season, "seed", lambda actor, made: 0)
    monkeypatch.setattr(turns, "seed", lambda made: None)


def test_the_examples_and_the_user_are_made(seed: Seed) -> None:
    seed()
    assert {e.name for e in Experiment.objects.all()} == NAMES
    assert User.objects.get(username="planner").check_password("made-at-first-start")


def test_the_examples_name_the_seeded_system(seed: Seed) -> None:
    seed()
    (system,) = System.objects.all()
    assert {e.name for e in system.experiments.all()} == NAMES
    source = Experiment.objects.get(name="Quick look").current.source
    assert "system: Quillport Tramways\n" in source
    assert "base_url" not in source
    assert [c.calls for c in system.description.components if c.name == "gateway"] == [
        ("planner", "stopboard", "ledger")
    ]


def test_seeding_again_changes_nothing(seed: Seed) -> None:
    seed()
    Experiment.objects.get(name="Quick look").delete()
    seed(password="another")
    assert {e.name for e in Experiment.objects.all()} == NAMES - {"Quick look"}
    assert User.objects.get(username="planner").check_password("made-at-first-start")


def test_without_demo_only_the_user_is_made(seed: Seed) -> None:
    seed("--no-demo")
    assert not Experiment.objects.exists()
    assert User.objects.filter(username="planner").exists()


def test_a_played_run_is_like_a_measured_one_and_says_that_it_is_none(
    seed: Seed, client: Client, planner: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(seed_demo, "PLAYED", (("Quick look", 2.0),))
    seed()
    client.force_login(planner)
    (line,) = client.get("/api/runs").json()["runs"]
    assert (line["state"], line["simulated"], line["experiment"]) == ("finished", True, "Quick look")
    # The truth of this system: saturation at 102 users, 95 % of Buy ticket within its limit up to 110.
    found = client.get(f"/api/runs/{line['id']}").json()["result"]
    assert found["simulated"]
    for finding, truth in (("saturation", 102), ("comfort", 110)):
        users = found["findings"][finding]["load"]
        assert users["low"] <= truth <= users["high"]
    assert "`ledger` CPU" in found["verdict"]
    plate = client.get(f"/api/runs/{line['id']}/plate").json()
    assert len(plate["t"]) == 84
    assert plate["users"][30] == pytest.approx(90, abs=0.5)
    assert {"ledger.cpu", "ledger.disk", "ledger.connections"} <= {r["key"] for r in plate["resources"]}
    run = Run.objects.get(pk=line["id"])
    assert run.bundles.count() == 2
    assert found["totals"]["requests"] == sum(run.bundles.values_list("rows", flat=True)) > 5_000
    (summary,) = (e for e in client.get("/api/experiments").json() if e["name"] == "Quick look")
    assert summary["last_run_simulated"]


def test_played_runs_of_other_seeds_differ(seed: Seed) -> None:
    seed()
    experiment = Experiment.objects.get(name="Quick look")
    one, same, other = (played.play(experiment, played.days_ago(1), number) for number in (1, 1, 2))
    assert one.verdict == same.verdict
    assert one.result["totals"] == same.result["totals"] != other.result["totals"]


def test_a_first_password_that_was_changed_is_not_told_any_more(seed: Seed, tmp_path: Path) -> None:
    file = tmp_path / "sign-in.txt"
    seed("--no-demo")
    assert file.read_text().split()[1] == "made-at-first-start"
    user = User.objects.get(username="planner")
    user.set_password("chosen by themselves")
    user.save()
    for told in ("made-at-first-start", seed_demo.CHANGED):
        seed("--no-demo", password=told)
        assert file.read_text().split()[1] == seed_demo.CHANGED == house.CHANGED
    user.refresh_from_db()
    assert user.check_password("chosen by themselves")
