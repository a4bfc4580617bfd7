"""The same experiment again and again, one run after the other."""

from __future__ import annotations

from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.signals import End
from stonekettle.server.access.roles import Actor
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import rules, tasks
from stonekettle.server.runs.models import Run
from tests.server.conftest import QUICK

pytestmark = pytest.mark.django_db


@pytest.fixture
def first(client: Client, planner: User) -> Run:
    """The first of three, making load."""
    made = experiments.create(Actor.of(planner), QUICK)
    run = Run.objects.get(pk=client.post(f"/api/experiments/{made.pk}/runs?times=3").json()["id"])
    for state in (RunState.PREPARING, RunState.RUNNING, RunState.DRAINING, RunState.ANALYSING):
        rules.move(run.pk, state, "")
    Run.objects.filter(pk=run.pk).update(begun_at=timezone.now().timestamp() - 90)
    return run


def ended(client: Client, run: Run, state: RunState) -> Any:
    tasks._end(run.pk, End(state, "The load profile is over.", False))
    return client.get(f"/api/runs/{run.pk}").json()


def test_the_next_run_follows_one_that_has_finished(client: Client, first: Run) -> None:
    assert client.get(f"/api/runs/{first.pk}").json()["again"] == 2
    told = ended(client, first, RunState.FINISHED)
    after = Run.objects.exclude(pk=first.pk).get()
    assert (after.state, after.again, after.requested_by) == ("queued", 1, first.requested_by)
    assert after.revision == first.revision
    (note,) = told["notes"]
    assert note["text"] == f"Run {after.pk} follows it, and 1 more."
    assert note["at_s"] == pytest.approx(90, abs=5)


@pytest.mark.parametrize("state", [RunState.STOPPED, RunState.FAILED])
def test_none_follows_one_that_did_not_finish(client: Client, first: Run, state: RunState) -> None:
    (note,) = ended(client, first, state)["notes"]
    assert note["text"] == f"Not repeated: it ended as {state.value}."
    assert Run.objects.count() == 1


def test_an_experiment_that_was_changed_is_not_repeated(client: Client, first: Run, planner: User) -> None:
    experiment = Experiment.objects.get()
    experiments.revise(Actor.of(planner), experiment, QUICK.replace("to: 180", "to: 150"))
    (note,) = ended(client, first, RunState.FINISHED)["notes"]
    assert "was changed meanwhile" in note["text"]
    assert Run.objects.count() == 1


def test_what_keeps_the_next_from_starting_is_told(client: Client, first: Run) -> None:
    Run.objects.filter(pk=first.pk).update(requested_by=None)
    (note,) = ended(client, first, RunState.FINISHED)["notes"]
    assert note["text"].startswith("Not repeated: ")
    assert Run.objects.count() == 1


def test_how_often_has_its_bounds(client: Client, experiment: Experiment) -> None:
    for times in (0, 11):
        assert client.post(f"/api/experiments/{experiment.pk}/runs?times={times}").status_code == 422
