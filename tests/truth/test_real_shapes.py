"""Four systems unlike the textbook over real sockets, two minutes each: what ails them is named."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import pytest

from tests.truth.side_by_side import Played, play

CLIMB = {"climb": {"from": 10, "to": 80, "by": 10, "every": "12 s"}}
Proof = Callable[[dict[str, Any]], bool]


def _limited_by(cause: str) -> Proof:
    return lambda found: found["limiting"].get("cause") == cause


SHAPES: Mapping[str, tuple[dict[str, Any], list[dict[str, Any]], str, Proof]] = {
    "lock": (
        {"cpus": 8, "lock_ms": 14, "lock_growth": 0.03},
        [{"climb": {"from": 10, "to": 100, "by": 10, "every": "12 s"}}],
        "30 s",
        _limited_by("contention"),
    ),
    "overload with time limits": (
        {"cpus": 2},
        [{"climb": {"from": 12, "to": 108, "by": 12, "every": "12 s"}}],
        "600 ms",
        _limited_by("overload"),
    ),
    "warming cache": (
        {"cpus": 2, "cold_factor": 2.5, "warms_over": 900},
        [CLIMB, {"hold": {"users": 15, "for": "16 s"}}],
        "30 s",
        lambda found: any(change["kind"] == "faster" for change in found["changes"]),
    ),
    "pool without metrics": (
        {"cpus": 8, "pool": 2, "pool_metered": False},
        [CLIMB],
        "30 s",
        _limited_by("unmetered"),
    ),
}


@pytest.fixture(scope="module")
def runs(tmp_path_factory: pytest.TempPathFactory) -> Mapping[str, Played]:
    made = {
        name: Played.of(tmp_path_factory.mktemp("shapes"), _plan(load, time_limit), _practice(desk), proves)
        for name, (desk, load, time_limit, proves) in SHAPES.items()
    }
    play(made.values())
    return made


def _practice(desk: dict[str, Any]) -> dict[str, Any]:
    visits = [{"component": "gateway", "cpu_ms": 2}, {"component": "desk", "cpu_ms": 30}]
    return {
        "components": [{"name": "gateway", "cpus": 4}, {"name": "desk", **desk}],
        "routes": [{"method": "GET", "path": "/", "visits": visits}],
    }


def _plan(load: list[dict[str, Any]], time_limit: str) -> dict[str, Any]:
    components = [
        {"name": name, "meter": {"openmetrics": f"practice://{name}/metrics"}} for name in ("gateway", "desk")
    ]
    step = {"name": "page", "request": "GET /", "think": "exponential 500 ms", "time_limit": time_limit}
    return {
        "name": "Unlike the textbook",
        "system": {"name": "Front desk", "base_url": "practice://gateway", "components": components},
        "journeys": [{"name": "ask", "steps": [step]}],
        "load": load,
        "objectives": [{"errors": "1 %"}],
        "error_limit": "5 %",
    }


@pytest.mark.parametrize("name", SHAPES)
def test_what_ails_it_is_named(runs: Mapping[str, Played], name: str) -> None:
    played = runs[name]
    assert played.settled, played.found["verdict"]


def test_the_words_say_what_was_done_in_vain_and_what_grew_faster(runs: Mapping[str, Played]) -> None:
    """Two processors of 30 ms do 66 steps/s; who gives up leaves all of them busy with work that nobody waits for."""
    overload = runs["overload with time limits"].found
    assert overload["findings"]["limiting"]["resource"]["key"] == "desk.cpu"
    assert overload["findings"]["limiting"]["in_vain"] > 0.3
    assert "of its work is thrown away" in overload["verdict"]
    notes = {note["kind"]: note for note in runs["warming cache"].found["notes"]}
    assert "`desk` CPU" in notes["change:faster"]["text"]
    lock = runs["lock"].found["findings"]["saturation"]
    assert lock["status"] == "peaked"
    assert 35 < lock["throughput"]["value"] < 75
