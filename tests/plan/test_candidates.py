"""Candidates as they are written: what is read, what is refused, and the plan of a turn."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
import yaml

from stonekettle.plan import document, secrecy, signing
from stonekettle.plan.calls import Call
from stonekettle.plan.candidates import Command
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError

EXAMPLE = (Path(__file__).parents[2] / "examples" / "candidates.yaml").read_text()


def plan(**changes: Any) -> Plan:
    told = yaml.safe_load(EXAMPLE)
    for path, value in changes.items():
        *way, last = path.split("__")
        at: Any = told
        for key in way:
            at = at[int(key) if key.isdigit() else key]
        at[int(last) if last.isdigit() else last] = value
    return document.from_document(told)


def faults(**changes: Any) -> dict[str, str]:
    with pytest.raises(PlanError) as caught:
        plan(**changes)
    return {problem.path: f"{problem.message} {problem.mend}" for problem in caught.value.problems}


def test_the_example_is_read_and_written_back() -> None:
    told = plan()
    assert told.candidates is not None
    assert (told.candidates.turns, [one.name for one in told.candidates.each]) == (10, ["planner 3.3", "planner 3.4"])
    assert document.from_document(document.to_document(told)) == told
    assert ("system.operations.address", "practice://cloud") in told.addresses
    assert ("candidates.each[0].ready.ask", "practice://cloud/components/planner/ready") in told.addresses


def test_a_turn_is_a_plan_of_its_own() -> None:
    told = plan(
        candidates__each__1__address="http://other.example/",
        candidates__each__1__types={"ledger": {"name": "harbour-8", "vcpus": 8}},
    )
    assert told.candidates is not None
    own = told.turn(told.candidates.each[1], None)
    components = {one.name: one for one in own.system.components}
    assert (own.candidates, own.system.base_url) == (None, "http://other.example")
    assert components["planner"].version == "3.4"
    assert components["planner"].instance_type is not None
    assert components["planner"].instance_type.name == "harbour-4"
    assert components["ledger"].instance_type is not None
    assert components["ledger"].instance_type.name == "harbour-8"
    assert document.from_document(document.to_document(own)) == own


def test_a_value_of_the_second_factor_brings_other_rows() -> None:
    few = {"name": "few", "csv": "rider,stop,goal,zone\nr-1,Quay Gate,Mill Lane,A\n"}
    told = yaml.safe_load(EXAMPLE)
    told["feeds"].append(few)
    told["candidates"]["factor"] = {
        "name": "Riders",
        "values": [{"name": "many"}, {"name": "few", "feeds": {"riders": "few"}}],
    }
    made = document.from_document(told)
    assert made.candidates is not None
    assert made.candidates.turns == 20
    own = made.turn(made.candidates.each[0], made.candidates.values[1])
    assert [(feed.name, len(feed)) for feed in own.feeds] == [("riders", 1), ("few", 1)]


def test_calls_say_what_they_expect() -> None:
    assert Call(call="POST http://a.example/x", expect=201).meets(201)
    assert not Call(call="POST http://a.example/x", expect=201).meets(200)
    assert Call(call="POST /x").meets(204)
    assert not Call(call="POST /x").meets(302)


@pytest.mark.parametrize(
    ("changes", "path", "words"),
    [
        ({"candidates__each": [{"name": "only"}]}, "candidates.each", "at least 2"),
        ({"candidates__each__1": {"name": "planner 3.3", "setting": "x"}}, "candidates.each[1].name", "twice"),
        ({"candidates__each": [{"name": "a"}, {"name": "b"}]}, "candidates.each", "do not differ"),
        ({"candidates__blocks": 1}, "candidates.blocks", "2"),
        ({"candidates__blocks": 30, "candidates__each": [{"name": f"c{i}", "setting": str(i)} for i in range(7)]},
         "candidates.each", "6"),
        ({"candidates__each__0__versions": {"planer": "1"}}, "candidates.each[0].versions", "planner"),
        ({"candidates__each__0__begin__0__call": "FETCH /x"}, "candidates.each[0].begin[0].call", "method"),
        ({"candidates__each__0__begin__0__call": "PUT ftp://x/y"}, "candidates.each[0].begin[0].call", "address"),
        ({"candidates__each__0__begin__0": {"call": "PUT /x", "command": "ls"}}, "candidates.each[0].begin[0]",
         "exactly one of call and command"),
        ({"candidates__each__0__begin__0": {"command": "deploy 'june"}}, "candidates.each[0].begin[0].command",
         "quotes"),
        ({"candidates__each__0__begin__0__signed": True}, "candidates.each[0].begin[0].signed", "signing key"),
        ({"candidates__each__0__ready": {"ask": "health"}}, "candidates.each[0].ready.ask", "address"),
        ({"candidates__each__0__ready": {"ask": "/health", "every": "1 ms"}}, "candidates.each[0].ready.every", "0.25"),
        ({"system__operations": None}, "candidates.each[0].begin[0].call", "no operations"),
        ({"candidates__factor": {"values": [{"name": "a"}, {"name": "b", "feeds": {"riders": "nobody"}}]}},
         "candidates.factor.values[1].feeds", "nobody"),
        ({"load": [{"search": {"to": 300, "within": "5 min"}}]}, "candidates", "same load"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_told_where_it_stands(changes: dict[str, Any], path: str, words: str) -> None:
    found = faults(**changes)
    assert path in found, found
    assert words in found[path]


def test_a_signing_key_signs_calls_to_its_own_origin_alone() -> None:
    key = {"address": "https://ops.example", "signing_key": "a-long-enough-key"}
    told = plan(
        system__operations=key,
        candidates__each__0__begin__0={"call": "PUT https://ops.example/x", "signed": True},
    )
    assert told.candidates is not None
    (call,) = told.candidates.each[0].begin
    assert isinstance(call, Call)
    assert call.signed
    found = faults(
        system__operations=key,
        candidates__each__0__begin__0={"call": "PUT https://elsewhere.example/x", "signed": True},
    )
    assert "https://ops.example alone" in found["candidates.each[0].begin[0].signed"]


def test_secrets_of_operations_and_calls_stay_out_of_view() -> None:
    told = yaml.safe_load(EXAMPLE)
    told["system"]["operations"] |= {"signing_key": "a-long-enough-key", "credentials": {"bearer": "t-1"}}
    told["candidates"]["each"][0]["begin"][0] |= {"headers": {"X-Api-Key": "k-1", "X-Note": "seen"}}
    hidden = secrecy.in_plan(told, secrecy.hide)
    assert hidden["system"]["operations"]["signing_key"] == secrecy.KEPT
    assert hidden["system"]["operations"]["credentials"]["bearer"] == secrecy.KEPT
    assert hidden["candidates"]["each"][0]["begin"][0]["headers"] == {"X-Api-Key": secrecy.KEPT, "X-Note": "seen"}
    assert secrecy.texts_in(told) == {"a-long-enough-key", "t-1", "k-1"}
    back = secrecy.restored(secrecy.in_system, hidden["system"], told["system"])
    assert back["operations"] == told["system"]["operations"]
    moved = {**hidden["system"], "operations": {**hidden["system"]["operations"], "address": "https://mallory.example"}}
    with pytest.raises(PlanError, match="not for here"):
        secrecy.restored(secrecy.in_system, moved, told["system"])


def test_commands_are_words_without_a_shell() -> None:
    assert Command(command="deploy 'june release' --now").words == "deploy 'june release' --now"


def test_a_signature_is_of_everything_that_was_sent() -> None:
    sent = signing.headers("key-of-eight", "PUT", "/x?y=1", b"body", now=1_000.4)
    assert sent[signing.TIME] == "1000"
    assert signing.fault("key-of-eight", "PUT", "/x?y=1", b"body", sent, now=1_100) is None
    for key, method, target, body, now, why in (
        ("other-key", "PUT", "/x?y=1", b"body", 1_000, "not right"),
        ("key-of-eight", "POST", "/x?y=1", b"body", 1_000, "not right"),
        ("key-of-eight", "PUT", "/x?y=2", b"body", 1_000, "not right"),
        ("key-of-eight", "PUT", "/x?y=1", b"bodY", 1_000, "not right"),
        ("key-of-eight", "PUT", "/x?y=1", b"body", 1_400, "too old"),
        ("key-of-eight", "PUT", "/x?y=1", b"body", 600, "too old"),
    ):
        assert why in (signing.fault(key, method, target, body, sent, now=now) or "")
    assert "not signed" in (signing.fault("key-of-eight", "PUT", "/x", b"", {}) or "")
