"""The trial before a run: passes once with everything shown, or names the step and the reason."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import pytest
import urllib3

from stonekettle.cli.run import PracticeProcess
from stonekettle.engine.errors import TrialFailed
from stonekettle.engine.exchange import Hop
from stonekettle.engine.local import practice_directory
from stonekettle.engine.script import compile_plan
from stonekettle.engine.trial import JourneyTrial, try_all, try_journey
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice.portal import PASSWORD
from tests.engine.conftest import KnownServer

Make = Callable[..., Plan]


def test_every_step_is_sent_once(make_plan: Make, known_server: KnownServer) -> None:
    found = try_all(compile_plan(make_plan(base=known_server.url)), known_server.url)
    assert found.requests == 1
    assert known_server.seen["/"] == 1


def test_a_wrong_status_names_step_and_answer(make_plan: Make, known_server: KnownServer) -> None:
    plan = make_plan(base=known_server.url)
    step = plan.journeys[0].steps[0].model_copy(update={"request": "GET /fail"})
    journey = plan.journeys[0].model_copy(update={"steps": (step,)})
    broken = plan.model_copy(update={"journeys": (journey,)})
    with pytest.raises(TrialFailed, match=r"'visit' failed at step 'page': it expects status 200 and got 500.*hello"):
        try_all(compile_plan(broken), known_server.url)


def test_a_connection_that_breaks_is_told(make_plan: Make) -> None:
    with pytest.raises(TrialFailed, match="failed at step 'page'"):
        try_all(compile_plan(make_plan(base="http://127.0.0.1:9")), "http://127.0.0.1:9")


def test_a_forbidden_target_is_never_tried(make_plan: Make) -> None:
    with pytest.raises(TrialFailed, match="not an allowed target"):
        try_all(compile_plan(make_plan(base="http://10.0.0.1")), "http://10.0.0.1")


@pytest.fixture(scope="module")
def practice() -> Iterator[tuple[str, str]]:
    """The gateway's address and the control's."""
    with PracticeProcess() as process:
        yield practice_directory(process.control_url)["gateway"][0], process.control_url


def ticket_journey(**login: Any) -> list[dict[str, Any]]:
    """Buy and activate a day ticket in the riders' portal, as a browser does."""
    form = {"rider": "r-{{user_number}}", "password": PASSWORD, "form_token": "{{form_token}}", **login}
    return [
        {
            "name": "Sign-in page",
            "request": "GET /portal/login",
            "keep": [{"name": "form_token", "field": "form_token"}],
            "accompanying": ["/static/tram.css", "/static/quay.svg"],
        },
        {
            "name": "Sign in",
            "request": "POST /portal/login",
            "form": form,
            "redirects": True,
            "checks": [{"contains": "Welcome"}],
        },
        {
            "name": "Ticket page",
            "request": "GET /portal/tickets/new",
            "keep": [{"name": "purchase_token", "field": "purchase_token"}],
        },
        {
            "name": "Buy",
            "request": "POST /portal/tickets",
            "form": {"zone": "A", "purchase_token": "{{purchase_token}}"},
            "redirects": True,
            "keep": [{"name": "ticket", "regex": "<b id=.number.>([^<]+)"}],
        },
        {
            "name": "Activate",
            "request": "POST /portal/tickets/{{ticket}}/activate",
            "checks": [{"contains": "is active"}],
        },
    ]


def tried(base: str, steps: list[dict[str, Any]]) -> JourneyTrial:
    plan = document.from_document(
        {
            "name": "tickets",
            "system": {"name": "Quillport", "base_url": base},
            "journeys": [{"name": "Day ticket", "steps": steps}],
            "load": [{"hold": {"users": 1, "for": "10 s"}}],
        }
    )
    return try_journey(compile_plan(plan), base, 0)


def test_a_whole_journey_is_shown_request_by_request(practice: tuple[str, str]) -> None:
    base, _ = practice
    before = urllib3.request("GET", f"{base}/portal/activated").json()["activated"]
    trial = tried(base, ticket_journey())
    assert trial.passed, trial.reason
    assert urllib3.request("GET", f"{base}/portal/activated").json()["activated"] == before + 1
    page, sign_in, _, buy, activate = trial.steps
    assert [(e.accompanying, e.status) for e in page.exchanges] == [(False, 200), (True, 200), (True, 200)]
    assert page.kept[0].value
    (exchange,) = sign_in.exchanges
    assert exchange.hops == (Hop(303, "/portal"),)
    assert exchange.sent_headers.startswith("POST /portal/login HTTP/1.1")
    assert "rider=r-1" in exchange.sent_body
    assert PASSWORD not in exchange.sent_body
    assert "Welcome, rider r-1" in exchange.received_body
    assert 0 < exchange.phases.first_byte <= exchange.phases.total
    assert sign_in.checks[0].passed
    assert buy.kept[0].value is not None
    assert f"/portal/tickets/{buy.kept[-1].value}/activate" in activate.exchanges[0].url
    assert {spent.component for spent in activate.exchanges[0].timing} == {"gateway", "ledger"}
    assert trial.requests == 9  # two of the seven were led on


def test_a_wrong_password_names_the_step_and_the_reason(practice: tuple[str, str]) -> None:
    trial = tried(practice[0], ticket_journey(password="wrong"))
    assert not trial.passed
    assert len(trial.steps) == 2
    assert "failed at step 'Sign in': the check that body contains 'Welcome' failed" in trial.reason
    assert "password is wrong" in trial.steps[1].exchanges[0].received_body


def test_a_value_that_is_missing_is_told_with_its_place(practice: tuple[str, str]) -> None:
    steps = ticket_journey()
    steps[0]["keep"] = [{"name": "form_token", "field": "token"}]
    assert "there is no value in the form field token to keep as 'form_token'" in tried(practice[0], steps).reason


def test_a_session_that_was_never_begun_is_shown_as_the_redirect_it_is(practice: tuple[str, str]) -> None:
    trial = tried(practice[0], [{"name": "Home", "request": "GET /portal"}])
    assert "it expects status 200 and got 303. It leads to /portal/login" in trial.reason
