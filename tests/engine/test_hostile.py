"""However an address is written, found or led to: nothing reaches one that is not allowed."""

from __future__ import annotations

import json
from typing import Any

import pytest

from stonekettle.engine.allowance import Allowance, Permit
from tests.engine.hostile import OPEN, OPEN6, OWN_PORT, PORT, cases
from tests.network import run_inside

Reached = dict[tuple[str, str], tuple[str, list[str]]]


def allowance() -> Allowance:
    permit = Permit(1, "the shop", (OPEN, OPEN6), ((PORT, PORT),))
    return Allowance((permit,), {"shop.test": (OPEN,)}, frozenset({OWN_PORT}))


@pytest.fixture(scope="module")
def reached(tmp_path_factory: pytest.TempPathFactory) -> Reached:
    """By way and case: why it failed, and all connections that were made."""
    given = {"KETTLE_HOSTILE": str(tmp_path_factory.mktemp("hostile"))}
    allowed = json.dumps(allowance().as_dict())
    told: list[Any] = json.loads(run_inside("tests.engine.hostile", limit_s=300, KETTLE_ALLOWANCE=allowed, **given))
    return {(way, name): (fault, connections) for way, name, fault, connections in told}


def test_there_are_enough_of_them() -> None:
    assert len(cases()) >= 240
    assert len({case.url for case in cases()}) == len(cases())


@pytest.mark.parametrize("way", ["load", "meter"])
def test_nothing_reaches_what_is_not_allowed(reached: Reached, way: str) -> None:
    assert {name for of_way, name in reached if of_way == way} == {case.name for case in cases()}
    wrong = []
    for (of_way, name), (fault, connections) in reached.items():
        for connection in connections if of_way == way else ():
            address, port = connection.split(" ")
            if allowance().refusal(address, int(port)) is not None:
                wrong.append(f"{name} reached {connection} ({fault})")
    assert wrong == []


@pytest.mark.parametrize("way", ["load", "meter"])
def test_what_is_forbidden_is_refused_before_any_connection(reached: Reached, way: str) -> None:
    wrong = []
    for case in cases():
        if case.allowed is False:
            fault, connections = reached[way, case.name]
            led_there = case.name.startswith("to ")
            if not fault or connections != [f"{OPEN} {PORT}"] * led_there:
                wrong.append(f"{case.name}: {fault!r}, reached {connections}")
    assert wrong == []


@pytest.mark.parametrize("way", ["load", "meter"])
def test_everything_allowed_works(reached: Reached, way: str) -> None:
    wrong = []
    for case in cases():
        fault, connections = reached[way, case.name]
        # What answers there is no page of metrics, so a meter finds fault with that, and with nothing before.
        ended_well = not fault if way == "load" else "not a metrics page" in fault
        if case.allowed and not (ended_well and len(connections) == 1 + case.name.startswith("to ")):
            wrong.append(f"{case.name}: {fault!r}, reached {connections}")
    assert wrong == []
