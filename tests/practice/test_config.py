"""Configurations of the practice system."""

from __future__ import annotations

from pathlib import Path

import pytest

from stonekettle.practice import config


def test_an_empty_document_is_the_demo(tmp_path: Path) -> None:
    path = tmp_path / "empty.yaml"
    path.write_text("")
    assert config.load(path) == config.quillport()


def test_the_demo_can_be_on_a_machine_that_drifts() -> None:
    made = config.from_document({"drift": 0.08, "drift_every_s": 600})
    assert (made.drift, made.drift_every_s, made.components) == (0.08, 600.0, config.quillport().components)


def test_changes_apply_to_the_demo(tmp_path: Path) -> None:
    path = tmp_path / "changes.yaml"
    path.write_text("changes: {ledger: {cpus: 16, pool: 3}}")
    found = config.load(path).component("ledger")
    assert (found.cpus, found.pool, found.disks) == (16, 3, 1)


def test_a_whole_system_can_be_written() -> None:
    found = config.from_document(
        {
            "components": [{"name": "web", "cpus": 1}],
            "routes": [{"method": "GET", "path": "/", "visits": [{"component": "web", "cpu_ms": 5}]}],
        }
    )
    assert found.routes[0].name == "GET /"


@pytest.mark.parametrize(
    ("document", "part"),
    [
        ({"changes": {"legder": {"cpus": 1}}}, "'legder' is not a component"),
        ({"drift": "much"}, "drift: write a number"),
        ({"components": [{"name": "web"}], "routes": "none"}, "routes"),
        (
            {
                "components": [{"name": "web"}],
                "routes": [{"method": "GET", "path": "/", "visits": [{"component": "db", "cpu_ms": 1}]}],
            },
            "'db', which is not a component",
        ),
        (
            {
                "components": [{"name": "web"}],
                "routes": [{"method": "GET", "path": "/", "visits": [{"component": "web", "cpu_ms": 1, "disk_ms": 1}]}],
            },
            "disks: 0",
        ),
    ],
)
def test_impossible_systems_are_refused_by_field(document: dict[str, object], part: str) -> None:
    with pytest.raises(config.PracticeConfigError, match=part):
        config.from_document(document)
