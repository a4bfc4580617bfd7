"""Seeding: once, and never over what is there."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from django.contrib.auth.models import User
from django.core.management import call_command

from stonekettle.server.experiments.models import Experiment
from stonekettle.server.systems.models import System

pytestmark = pytest.mark.django_db


@pytest.fixture
def seed(tmp_path: Path) -> Callable[..., None]:
    def seed(*more: str, password: str = "made-at-first-start") -> None:
        (tmp_path / "sign-in.txt").write_text(f"planner {password}\n")
        call_command("seed_demo", "--sign-in", str(tmp_path / "sign-in.txt"), *more)

    return seed


Seed = Callable[..., None]


def test_the_examples_and_the_user_are_made(seed: Seed) -> None:
    seed()
    assert {e.name for e in Experiment.objects.all()} == {"Quick look", "Harbour festival"}
    assert User.objects.get(username="planner").check_password("made-at-first-start")


def test_the_examples_name_the_seeded_system(seed: Seed) -> None:
    seed()
    (system,) = System.objects.all()
    assert {e.name for e in system.experiments.all()} == {"Quick look", "Harbour festival"}
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
    assert [e.name for e in Experiment.objects.all()] == ["Harbour festival"]
    assert User.objects.get(username="planner").check_password("made-at-first-start")


def test_without_demo_only_the_user_is_made(seed: Seed) -> None:
    seed("--no-demo")
    assert not Experiment.objects.exists()
    assert User.objects.filter(username="planner").exists()
