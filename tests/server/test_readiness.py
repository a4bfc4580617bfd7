"""What a run needs is told before it: what blocks, what would spoil it, what is in order."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from django.test import Client

from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Order
from stonekettle.engine import orderbook
from stonekettle.server.access import halting, people
from stonekettle.server.access.roles import Role
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.runs import analysing
from stonekettle.server.runs.models import Run, RunOrder
from stonekettle.server.systems import rules as systems
from stonekettle.server.systems import runners
from tests.server.acting import TESTS
from tests.server.conftest import QUICK
from tests.server.test_experiments import send

pytestmark = pytest.mark.django_db
HERE = "http://127.0.0.1:9"


@pytest.fixture
def trams(client: Client) -> int:
    """On a described system, with one named journey that nobody tried."""
    meter = {"openmetrics": [f"{HERE}/metrics"]}
    described = {"name": "Trams", "base_url": HERE, "components": [{"name": "ledger", "meters": [meter]}]}
    systems.create(TESTS, described)
    step = {"name": "Front", "request": "GET /"}
    journeys.drafts.create(TESTS, {"name": "Look", "system": "Trams", "steps": [step]})
    text = """
name: Trams at night
system: Trams
journeys: [{journey: Look}]
load: [{climb: {from: 10, to: 50, by: 10, every: 20 s}}]
"""
    made = send(client, "POST", "/api/experiments", source=text)
    assert made.status_code == 201, made.json()
    return int(made.json()["id"])


def asked(client: Client, experiment: int) -> tuple[bool, dict[str, dict[str, Any]]]:
    told = client.get(f"/api/experiments/{experiment}/readiness").json()
    assert told["may_start"] == all(line["state"] != "blocks" for line in told["lines"])
    return told["may_start"], {line["key"]: line for line in reversed(told["lines"])}


def test_what_is_in_order_and_what_would_spoil_it(client: Client, trams: int) -> None:
    may, lines = asked(client, trams)
    assert may
    assert {key for key, line in lines.items() if line["state"] == "ready"} == {
        "halt",
        "runners",
        "targets",
        "free",
    }
    assert "it does not answer" in lines["meters"]["text"]
    assert lines["meters"]["state"] == "warns"
    assert lines["meters"]["mend"] == "A run ends before its load if it is still silent then."
    assert lines["journeys"]["text"] == "Look has not passed a trial as it is now."
    assert re.fullmatch(r"/journeys/\d+", lines["journeys"]["link"])
    assert "climbs and does not come back" in lines["advice"]["text"]


def test_each_thing_in_the_way_is_told_as_the_start_would_say_it(
    client: Client, trams: int, make_run: Callable[..., Run]
) -> None:
    def refused(key: str, caller: Client = client) -> str:
        may, lines = asked(caller, trams)
        assert not may
        assert lines[key]["state"] == "blocks"
        answer = caller.post(f"/api/experiments/{trams}/runs").json()
        assert answer["detail"] == lines[key]["text"]
        return str(lines[key]["text"])

    halting.halt(TESTS, "a fire")
    assert "All load was halted by the tests: a fire." in refused("halt")
    halting.lift(TESTS)
    make_run(0, state="running", target=HERE)
    assert "is still running on Trams" in refused("free")
    Run.objects.all().delete()
    reader, planner = Client(), Client()
    reader.force_login(people.create("rita", None, Role.READER))
    planner.force_login(people.create("pia", None, Role.PLANNER))
    people.create("paul", None, Role.PLANNER)
    assert "Only planners and administrators" in refused("role", reader)
    system = systems.System.objects.get()
    runners.choose(TESTS, system, ["paul"])
    assert refused("runners", planner) == "Only paul and administrators may run on Trams. Ask an administrator."


def test_a_place_that_may_not_be_loaded_blocks(client: Client) -> None:
    text = QUICK.replace("base_url: practice://gateway", "base_url: http://10.1.2.3")
    made = send(client, "POST", "/api/experiments", source=text).json()["id"]
    may, lines = asked(client, made)
    assert not may
    assert lines["targets"]["text"] == "10.1.2.3 (10.1.2.3) is not an allowed target."
    assert lines["targets"]["link"] == "/targets"


def test_a_plan_that_became_unreadable_is_told_with_where_to_mend_it(client: Client, trams: int) -> None:
    journeys.Journey.objects.all().delete()
    may, lines = asked(client, trams)
    assert not may
    assert list(lines) == ["plan"]
    assert lines["plan"]["link"] == f"/experiments/{trams}?as=text"


def test_generators_have_room_or_may_be_the_limit_by_what_they_did_before(
    client: Client, make_run: Callable[..., Run], settings: Any
) -> None:
    settings.GENERATORS = 2

    def line(users: int, think: str) -> dict[str, Any] | None:
        text = f"""
name: Asking {users} {think}
system: {{name: Mill, base_url: "{HERE}"}}
journeys: [{{name: Look, steps: [{{name: Front, request: GET /, accompanying: [/a.css, /b.js], think: {think}}}]}}]
load: [{{hold: {{users: {users}, for: 1 min}}}}]
"""
        made = send(client, "POST", "/api/experiments", source=text).json()["id"]
        return asked(client, made)[1].get("generators")

    assert line(20, "4 s") is None
    # 5 steps/s with a tenth of a core: 35 with 70 %.
    run = make_run(60, state="finished", begun_at=1.0)
    held = Order(1, 0.0, {"everyone": Target.steady(30)})
    for order in (held, Order(2, 60.0, {}, last=True)):
        RunOrder.objects.create(run=run, number=order.number, order=orderbook.to_plain(order), who="the plan")
    analysing.analyse(run, state="finished", cause="")
    room = line(20, "4 s")
    assert room is not None
    assert (room["state"], room["text"]) == (
        "ready",
        "The generators have room: at most 7.50 requests/s are asked of each; "
        f"in run {run.pk} one did 35.0 for 70 % of a core.",
    )
    full = line(400, "4 s")
    assert full is not None
    assert full["state"] == "warns"
    assert full["text"].startswith("The generators may be the limit: at most 150 requests/s are asked of each;")
    assert line(400, "0 s") is None
