"""Changes of a system as calls: what they ask for, what may be put into them, and what is refused."""

from __future__ import annotations

from typing import Any

import pytest

from stonekettle.plan import document, secrecy, system_document
from stonekettle.plan.calls import Change
from stonekettle.plan.differences import differences, due_text
from stonekettle.plan.problems import PlanError

SCALE = {
    "name": "Set instances",
    "does": {"call": "PUT /components/{{component}}/instances", "body": '{"instances": {{count}}}'},
    "ready": {"ask": "/components/{{ component }}/ready", "every": "500 ms"},
}


def system(*changes: dict[str, Any], **operations: Any) -> dict[str, Any]:
    return {
        "name": "Trams",
        "base_url": "http://127.0.0.1:9000",
        "operations": {"address": "http://127.0.0.1:9001", "changes": list(changes), **operations},
    }


def problem(*changes: dict[str, Any], **operations: Any) -> str:
    with pytest.raises(PlanError) as refused:
        system_document.from_document(system(*changes, **operations))
    return str(refused.value)


def test_what_it_asks_for_stands_between_braces_and_is_filled_in_everywhere() -> None:
    change = Change.model_validate(SCALE)
    assert change.asks == ("component", "count")
    call, ready = change.filled({"component": "planner", "count": "4"})
    assert (call.call, call.body) == ("PUT /components/planner/instances", '{"instances": 4}')
    assert ready is not None
    assert ready.ask == "/components/planner/ready"


@pytest.mark.parametrize("given", ["", "a b", "../x", '3}, "b": 1', "x" * 81, "{{component}}", "-1"])
def test_nothing_that_would_change_the_call_is_put_into_it(given: str) -> None:
    with pytest.raises(PlanError, match=r"values\.count"):
        Change.model_validate(SCALE).filled({"component": "planner", "count": given})


def test_what_is_not_asked_for_is_refused() -> None:
    with pytest.raises(PlanError, match=r"values\.colour"):
        Change.model_validate(SCALE).filled({"component": "planner", "count": "3", "colour": "red"})


def test_a_system_keeps_its_changes_and_reads_them_back() -> None:
    made = system_document.from_document(system(SCALE))
    assert system_document.from_document(system_document.to_document(made)) == made


def test_changes_that_make_no_sense_are_refused_by_their_place() -> None:
    elsewhere = {**SCALE, "does": {"call": "PUT http://elsewhere.example/x/{{component}}"}}
    assert "operations.changes[0]" in problem(elsewhere)
    assert "is not a path" in problem(elsewhere)
    unasked = {**SCALE, "ready": {"ask": "/ready/{{zone}}"}}
    assert "'zone' is asked by 'ready' alone" in problem(unasked)
    assert "used more than once" in problem(SCALE, SCALE)
    signed = {**SCALE, "does": {**SCALE["does"], "signed": True}}  # type: ignore[dict-item]
    assert "operations.changes[0].does.signed: the system has no signing key" in problem(signed)
    system_document.from_document(system(signed, signing_key="long enough a key"))


def plan(*dues: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {
        "name": "p",
        "system": {**system(SCALE), "components": [{"name": "planner"}]},
        "journeys": [{"name": "look", "steps": [{"name": "home", "request": "GET /", "think": "1 s"}]}],
        "load": [{"hold": {"users": 10, "for": "60 s"}}],
        "timeline": list(dues),
        **more,
    }


DUE = {"at": "20 s", "change": "Set instances", "values": {"component": "planner", "count": 3}}


def test_a_timeline_is_read_with_its_plan_and_told_in_words() -> None:
    told = document.from_document(plan(DUE))
    assert told.timeline[0].values == {"component": "planner", "count": "3"}
    assert document.from_document(document.to_document(told)) == told
    assert due_text(told, told.timeline[0]) == "at 20 s, Set instances: planner, 3"
    later = document.from_document(plan({**DUE, "at": "40 s"}))
    assert differences(told, later) == (
        "added to the timeline: at 40 s, Set instances: planner, 3",
        "taken off the timeline: at 20 s, Set instances: planner, 3",
    )


@pytest.mark.parametrize(
    ("due", "said"),
    [
        ({**DUE, "change": "Set instance"}, "timeline[0].change: 'Trams' knows no change called 'Set instance'."),
        ({**DUE, "at": "60 s"}, "timeline[0].at: 1 min is after the end of the load"),
        ({**DUE, "values": {"component": "planner"}}, "timeline[0].values.count"),
        ({**DUE, "values": {"component": "crane", "count": 1}}, "timeline[0].values.component: there is no component"),
    ],
)
def test_a_timeline_that_cannot_be_followed_is_refused(due: dict[str, Any], said: str) -> None:
    with pytest.raises(PlanError) as refused:
        document.from_document(plan(due))
    assert said in str(refused.value)


def test_secrets_in_the_headers_of_a_change_are_hidden() -> None:
    keyed = {**SCALE, "does": {**SCALE["does"], "headers": {"Authorization": "Bearer 1234567890"}}}  # type: ignore[dict-item]
    hidden = secrecy.in_system(system(keyed), secrecy.hide)
    assert "1234567890" not in str(hidden)
    restored = secrecy.restored(secrecy.in_system, hidden, system(keyed))
    assert "Bearer 1234567890" in str(restored)
