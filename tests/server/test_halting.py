"""The halt: nothing begins load while there is one, and only some may lift it."""

from __future__ import annotations

from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import Client

from stonekettle.server.access import halting, people
from stonekettle.server.access.models import Halt
from stonekettle.server.access.roles import Actor, Forbidden, Role
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.history.models import Deed
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import rules
from stonekettle.server.runs.models import Run
from tests.server.acting import TESTS

pytestmark = pytest.mark.django_db


def json_of(client: Client, method: str, body: str = "{}") -> Any:
    return client.generic(method, "/api/halt", body, content_type="application/json").json()


def test_nothing_begins_load_until_it_is_lifted(
    client: Client, experiment: Experiment, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("stonekettle.server.queueing.ask", lambda *_, **__: None)
    told = json_of(client, "POST", '{"why": "smoke in the hall."}')
    assert (told["halted"], told["by"], told["may_lift"]) == (True, "planner", True)
    with pytest.raises(Conflict, match=r"halted by planner: smoke in the hall\. Until it is lifted"):
        rules.start(TESTS, experiment)
    journey = journeys.drafts.create(TESTS, {"name": "Walk", "system": "Nowhere"})
    with pytest.raises(Conflict, match="halted by planner"):
        journeys.try_once(TESTS, journey)
    assert not Run.objects.exists()
    assert json_of(client, "DELETE")["halted"] is False
    assert rules.start(TESTS, experiment).state == "queued"


def test_a_second_halt_is_the_first_one(client: Client, planner: User) -> None:
    first = halting.halt(Actor.itself("anna"), "smoke")
    assert halting.halt(Actor.of(planner), "noise").pk == first.pk
    assert json_of(client, "GET")["by"] == "anna"
    assert Deed.objects.filter(kind="halt").count() == 1
    halting.lift(Actor.of(planner))
    halting.lift(Actor.of(planner))
    assert list(Deed.objects.filter(kind="halt").order_by("pk").values_list("who", "did")) == [
        ("anna", "halted"),
        ("planner", "lifted the halt of"),
    ]
    assert Halt.objects.get().lifted_by == "planner"


def test_who_halted_or_an_administrator_lifts_it_and_nobody_else() -> None:
    anna, berta = (Actor.of(people.create(name, None, Role.PLANNER)) for name in ("anna", "berta"))
    halting.halt(anna, "")
    with pytest.raises(Forbidden, match="Only anna, who halted it, or an administrator"):
        halting.lift(berta)
    assert halting.in_force() is not None
    halting.lift(anna)
    assert halting.in_force() is None


def test_the_command_halts_and_lifts(capsys: pytest.CaptureFixture[str]) -> None:
    call_command("halt", who="kay (command line)", why="drill")
    assert "All load was halted by kay (command line): drill. Lift it with" in capsys.readouterr().out
    assert halting.in_force() is not None
    call_command("halt", who="kay (command line)", lift=True)
    assert halting.in_force() is None
