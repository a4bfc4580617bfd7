"""Changes of a system as calls: what they ask for, what may be put into them, and what is refused."""

from __future__ import annotations

from typing import Any

import pytest

from stonekettle.plan import secrecy, system_document
from stonekettle.plan.calls import Change
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


def test_secrets_in_the_headers_of_a_change_are_hidden() -> None:
    keyed = {**SCALE, "does": {**SCALE["does"], "headers": {"Authorization": "Bearer 1234567890"}}}  # type: ignore[dict-item]
    hidden = secrecy.in_system(system(keyed), secrecy.hide)
    assert "1234567890" not in str(hidden)
    restored = secrecy.restored(secrecy.in_system, hidden, system(keyed))
    assert "Bearer 1234567890" in str(restored)
