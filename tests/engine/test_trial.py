"""The trial before a run: passes once, or names the step and the reason."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from stonekettle.engine.errors import TrialFailed
from stonekettle.engine.script import compile_plan
from stonekettle.engine.trial import try_all
from stonekettle.plan.models import Plan
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
