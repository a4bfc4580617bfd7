"""The checklist of servers: who is at the end, who is near it, who has room."""

from __future__ import annotations

from dataclasses import replace

import pytest

from stonekettle.core.analysis import Analysis, analyse
from stonekettle.core.bottleneck import LimitingResource, ResourceEvidence
from stonekettle.core.orders import as_planned
from stonekettle.core.types import Declined, Reason
from stonekettle.practice.twin import simulate
from stonekettle.report.notes.servers import note
from tests.conftest import climb, one_server_system, visits


def resource(key: str, utilisation: float, full_from: float | None = None) -> ResourceEvidence:
    component, _, name = key.partition(".")
    return ResourceEvidence(key, component, name, name, 4.0, utilisation, None, None, full_from, None)


@pytest.fixture(scope="module")
def found() -> Analysis:
    profile = climb(20, 180, 20)
    return analyse(
        simulate(one_server_system(20, servers=2), visits(1.0), profile, seed=2), as_planned(profile), (), 0.01
    )


def with_evidence(found: Analysis, *evidence: ResourceEvidence) -> Analysis:
    assert isinstance(found.limiting, LimitingResource)
    return replace(found, limiting=replace(found.limiting, evidence=evidence))


def test_a_server_is_as_its_worst_resource_and_the_worst_come_first(found: Analysis) -> None:
    told = note(
        with_evidence(
            found,
            resource("ledger.cpu", 0.99, 380.0),
            resource("planner.cpu", 0.74),
            resource("gateway.cpu", 0.2),
            resource("ledger.disk", 0.31),
            resource("stopboard.memory", 0.3),
        )
    )
    assert told is not None
    assert told.title == "`ledger` is at its end, `planner` is near its end, `gateway` and `stopboard` have room"
    assert told.grade == "saturated"
    assert told.details == (
        "● `ledger`: CPU 99 %, full from 380 users; disk 31 %",
        "◐ `planner`: CPU 74 %",
        "○ `gateway`: CPU 20 %",
        "○ `stopboard`: memory 30 %",
    )
    assert told.evidence.rows == ("resource:ledger.cpu", "resource:planner.cpu")


def test_many_of_a_kind_are_counted(found: Analysis) -> None:
    told = note(with_evidence(found, *(resource(f"web{k}.cpu", 0.1) for k in range(5))))
    assert told is not None
    assert (told.title, told.grade) == ("5 servers have room", "holds")


def test_of_a_run_that_saturated_the_resource_that_limits_is_at_its_end(found: Analysis) -> None:
    told = note(found)
    assert told is not None
    assert told.title.startswith("`shop` is at its end")


def test_where_nothing_is_claimed_of_the_system_no_server_is_judged(found: Analysis) -> None:
    assert note(replace(found, limiting=Declined(Reason.GENERATOR))) is None
    assert note(with_evidence(found)) is None


def test_where_the_generators_were_short_of_load_it_says_of_which_load_it_tells(found: Analysis) -> None:
    assert isinstance(found.limiting, LimitingResource)
    told = note(replace(found, limiting=replace(found.limiting, cause="generator")))
    assert told is not None
    assert "which was less than ordered" in told.text
    assert "less than ordered" not in note(found).text


def test_processes_that_take_the_cpu_stand_with_their_server(found: Analysis) -> None:
    analysis = with_evidence(found, resource("ledger.cpu", 0.99, 380.0), resource("gateway.cpu", 0.2))
    told = note(analysis, {"ledger": [("postgres", 3.14159), ("back`up", 0.05)]})
    assert told is not None
    assert told.details[0].endswith("full from 380 users. Cores by process: `postgres` 3.14, `backup` 0.0500")
    assert "Cores" not in told.details[1]
