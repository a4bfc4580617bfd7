"""Steps: bodies, kept values, checks, sessions, waits; and how their faults are told."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
import yaml
from pydantic import ValidationError

from stonekettle.plan import document, json_path
from stonekettle.plan.json_path import MISSING
from stonekettle.plan.problems import PlanError
from stonekettle.plan.step import Step


def step(**fields: Any) -> Step:
    return Step.model_validate({"name": "s", "request": "POST /x", **fields})


def test_a_form_is_encoded_but_for_its_variables() -> None:
    made = step(form={"goal": "Mill & Lane", "token": "{{token}}"})
    assert made.body_text == "goal=Mill%20%26%20Lane&token={{token}}"
    assert made.content_type == "application/x-www-form-urlencoded"


def test_a_multipart_form_carries_values_and_files() -> None:
    made = step(parts=[{"name": "zone", "value": "A"}, {"name": "scan", "value": "x", "filename": "s.txt"}])
    assert made.content_type == "multipart/form-data; boundary=stone-kettle-part"
    assert made.body_text == (
        '--stone-kettle-part\r\nContent-Disposition: form-data; name="zone"\r\n\r\nA\r\n'
        '--stone-kettle-part\r\nContent-Disposition: form-data; name="scan"; filename="s.txt"\r\n'
        "Content-Type: application/octet-stream\r\n\r\nx\r\n--stone-kettle-part--\r\n"
    )


@pytest.mark.parametrize(
    ("fields", "part"),
    [
        ({"request": "FETCH /x"}, "not a request"),
        ({"json": {}, "body": "x"}, "one body"),
        ({"keep": [{"name": "a"}]}, "exactly one of json, regex"),
        ({"keep": [{"name": "a b", "cookie": "c"}]}, "pattern"),
        ({"keep": [{"name": "a", "json": "ticket"}]}, "not a JSON path: it does not begin"),
        ({"checks": [{"json": "$.a..b", "exists": True}]}, "neither .name"),
        ({"checks": [{"json": "$.a"}]}, "exactly one of equals and exists"),
        ({"checks": [{"contains": "a", "lacks": "b"}]}, "exactly one thing"),
        ({"accompanying": ["static.css"]}, "not a path"),
    ],
)
def test_faults_are_told(fields: dict[str, Any], part: str) -> None:
    with pytest.raises(ValidationError, match=part):
        step(**fields)


@pytest.mark.parametrize(
    ("path", "found"),
    [("$", {"a": [{"b c": 1}]}), ("$.a[0]['b c']", 1), ("$.a[-1]", {"b c": 1}), ("$.z", MISSING), ("$.a.b", MISSING)],
)
def test_places_in_documents(path: str, found: object) -> None:
    assert json_path.compiled(path)({"a": [{"b c": 1}]}) == found


def journeys(plan_text: Callable[..., str], *steps: dict[str, Any], **more: Any) -> dict[str, Any]:
    made: dict[str, Any] = yaml.safe_load(plan_text())
    made["journeys"] = [{"name": "visit", "steps": list(steps)}]
    return {**made, **more, "objectives": []}


FIRST = {"name": "first", "request": "GET /", "keep": [{"name": "token", "field": "t"}]}
SECOND = {"name": "second", "request": "POST /y", "form": {"t": "{{token}}", "id": "{{uuid}}"}}


def test_kept_and_built_in_values_need_no_feed(plan_text: Callable[..., str]) -> None:
    plan = document.from_document(journeys(plan_text, FIRST, SECOND))
    assert document.from_document(document.to_document(plan)) == plan


def test_a_value_is_not_there_before_it_is_kept(plan_text: Callable[..., str]) -> None:
    with pytest.raises(PlanError, match="'second' has no value"):
        document.from_document(journeys(plan_text, SECOND, FIRST))
    with pytest.raises(PlanError, match="Did you mean 'token'"):
        document.from_document(journeys(plan_text, FIRST, {**SECOND, "form": {"t": "{{tokn}}"}}))


def test_disabled_steps_are_left_out(plan_text: Callable[..., str]) -> None:
    plan = document.from_document(journeys(plan_text, FIRST, {**SECOND, "enabled": False}))
    assert [s.name for _, s in plan.steps] == ["first"]
    with pytest.raises(PlanError, match="every step of the journey is disabled"):
        document.from_document(journeys(plan_text, {**FIRST, "enabled": False}))


@pytest.mark.parametrize(
    ("waits", "mean"), [({"factor": 0.5}, 1.0), ({"think": "uniform 2 s to 4 s"}, 3.0), ({"factor": 0}, 0.0)]
)
def test_one_override_changes_every_wait(plan_text: Callable[..., str], waits: dict[str, Any], mean: float) -> None:
    text = journeys(plan_text, {**FIRST, "think": "exponential 2 s"}, waits=waits)
    plan = document.from_document(text)
    assert plan.think_of(plan.steps[0][1]).mean == pytest.approx(mean)
    with pytest.raises(PlanError, match="either a factor or a think time"):
        document.from_document({**text, "waits": {}})


def test_steps_and_counts_may_be_on_other_hosts(plan_text: Callable[..., str]) -> None:
    step = {
        **FIRST,
        "request": "GET practice://planner/search?q={{token}}",
        "accompanying": ["practice://stops/map.svg"],
    }
    changed = {**journeys(plan_text, SECOND), "feeds": [{"name": "t", "csv": "token,ticket\nx,1\n"}]}
    changed["journeys"][0]["steps"].append({**step, "name": "Elsewhere", "keep": []})
    changed["journeys"][0]["proof"] = {"address": "practice://planner/count"}
    plan = document.from_document(changed)
    assert ("journeys[0].steps[1].request", "practice://planner") in plan.addresses
    assert ("journeys[0].proof.address", "practice://planner/count") in plan.addresses
    directory = {"planner": ["http://127.0.0.1:7"], "stops": ["http://127.0.0.1:8", "http://127.0.0.1:9"]}
    found = document.resolved(plan, directory)
    moved = found.journeys[0].steps[1]
    assert moved.request == "GET http://127.0.0.1:7/search?q={{token}}"
    assert moved.accompanying == ("http://127.0.0.1:8/map.svg",)
    assert found.journeys[0].proof is not None
    assert found.journeys[0].proof.address == "http://127.0.0.1:7/count"
    with pytest.raises(PlanError, match="practice://stops is not in the practice system"):
        document.resolved(plan, {"planner": ["http://127.0.0.1:7"]})


@pytest.mark.parametrize("request_", ["GET http://{{host}}/x", "GET ftp://host/x", "GET host/x", "GET http:///x"])
def test_other_addresses_are_refused(request_: str, plan_text: Callable[..., str]) -> None:
    with pytest.raises(PlanError, match="is not a request"):
        document.from_document(journeys(plan_text, {**FIRST, "request": request_}))
