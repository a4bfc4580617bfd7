"""Counts at an address: a number before load and one after it, or a plain fault."""

from __future__ import annotations

from typing import Any

import pytest

from stonekettle.engine.allowance import LOOPBACK
from stonekettle.meters.counts import Counts, number_in, source_of
from stonekettle.meters.endpoint import MeterError
from stonekettle.plan.checking import validated
from stonekettle.plan.journey import Journey, Proof
from stonekettle.plan.problems import PlanError
from tests.meters.conftest import MetricsServer


def proof(**changes: Any) -> Proof:
    return validated(Proof, {"address": "/count", **changes})


@pytest.mark.parametrize(
    ("text", "where", "number"),
    [
        ("42\n", {}, 42),
        ("4.5e1", {}, 45),
        ('{"tickets": {"active": 7}}', {"json": "$.tickets.active"}, 7),
        ('{"tickets": "7"}', {"json": "$.tickets"}, 7),
        ("<p>active: <b>1200</b></p>", {"regex": "active: <b>([0-9]+)<"}, 1200),
        ("1200 tickets", {"regex": "^[0-9]+"}, 1200),
    ],
)
def test_a_number_is_found_where_it_stands(text: str, where: dict[str, str], number: float) -> None:
    assert number_in(text, proof(**where)) == number


@pytest.mark.parametrize(
    ("text", "where", "says"),
    [
        ("many", {}, "'many'"),
        ("", {}, "''"),
        ('{"tickets": 7}', {"json": "$.gates"}, "nothing at"),
        ('{"tickets": true}', {"json": "$.tickets"}, "True"),
        ("none", {"regex": "[0-9]+"}, "nothing matches"),
        ("no JSON", {"json": "$.tickets"}, "Expecting value"),
    ],
)
def test_what_is_no_number_is_told(text: str, where: dict[str, str], says: str) -> None:
    with pytest.raises(ValueError, match=says):
        number_in(text, proof(**where))


@pytest.mark.parametrize(
    "written",
    [
        {},
        {"component": "ledger"},
        {"component": "ledger", "metric": "tickets", "address": "/count"},
        {"component": "ledger", "metric": "tickets", "json": "$.x"},
        {"address": "/count", "json": "$.x", "regex": "x"},
        {"address": "count"},
    ],
)
def test_a_proof_is_a_counter_or_an_address(written: dict[str, Any]) -> None:
    with pytest.raises(PlanError):
        validated(Proof, written)


def journey(address: str) -> Journey:
    step = {"name": "Look", "request": "GET /"}
    return validated(Journey, {"name": "Look up", "steps": [step], "proof": {"address": address}})


def test_counts_are_asked_of_the_system(metrics: MetricsServer) -> None:
    base, metrics.page = metrics.base, "12"
    counts = Counts([journey("/count")], base, LOOPBACK.refusal)
    (first,) = counts.read()
    assert (first.source, first.value) == (source_of("Look up"), 12)
    metrics.page = "twelve"
    with pytest.raises(MeterError, match=r"the proof of 'Look up': .* answers no number: 'twelve'"):
        counts.read()
    metrics.status = 503
    with pytest.raises(MeterError, match="status 503"):
        counts.read()
    with pytest.raises(MeterError, match="is closed"):
        Counts([journey(metrics.url)], base, lambda address, port: "is closed").read()
    with pytest.raises(MeterError, match="does not answer"):
        Counts([journey("http://127.0.0.1:9/count")], base, LOOPBACK.refusal).read()
