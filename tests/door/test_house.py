"""The front door's answers before anything is started."""

from __future__ import annotations

import json
import os
import socket
from pathlib import Path

import pytest

from stonekettle.door import checks, house, main
from stonekettle.door.places import Data, DoorError
from stonekettle.door.postgres import Cluster, free_port
from stonekettle.door.reach import Site
from stonekettle.door.supervisor import birth


def test_a_taken_port_gets_one_clear_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        assert main.main(["start", "--data", str(tmp_path), "--port", str(port)]) == 2
    error = capsys.readouterr().err
    assert f"Port {port} cannot be used" in error
    assert f"--port {port + 1}" in error


def test_a_running_installation_is_not_started_twice(tmp_path: Path) -> None:
    data = Data(tmp_path)
    data.pid_file.write_text(f"{os.getpid()} {birth(os.getpid())}")
    with pytest.raises(DoorError, match="running already"):
        house.start(data, Site(0), demo=False)


def test_a_pid_left_by_a_killed_installation_does_not_count(tmp_path: Path) -> None:
    data = Data(tmp_path)
    data.pid_file.write_text(f"{os.getpid()} 1")
    assert house.running_pid(data) is None
    assert house.stop(data, say=lambda line: None) == 0


def test_secrets_are_made_once_and_kept_from_others(tmp_path: Path) -> None:
    data = Data(tmp_path)
    first = house._settings(data)
    assert house._settings(data) == first
    assert data.settings_file.stat().st_mode & 0o077 == 0
    assert len(first["secret_key"]) > 40
    password = house._sign_in(data)
    assert house._sign_in(data) == password
    assert data.sign_in_file.stat().st_mode & 0o077 == 0


def test_a_free_port_is_kept_and_a_taken_one_replaced() -> None:
    port = free_port()
    assert free_port(port) == port
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", port))
        assert free_port(port) != port


def test_the_cluster_lies_where_its_user_may_enter(tmp_path: Path) -> None:
    closed = tmp_path / "closed"
    closed.mkdir(mode=0o700)
    cluster = Cluster.for_data(closed, 5432, "secret", "another")
    expected = Path("/var/tmp") if os.geteuid() == 0 else closed
    assert expected in cluster.folder.parents
    assert cluster.environment["KETTLE_DB_PORT"] == "5432"


def test_lines_are_counted_without_blanks_and_generated_files(tmp_path: Path) -> None:
    (tmp_path / "tests").mkdir()
    (tmp_path / "tests" / "test_a.py").write_text("a\n\nb\n")
    (tmp_path / "code.py").write_text("x\n\n\ny\nz\n")
    (tmp_path / "schema.d.ts").write_text("generated\n")
    (tmp_path / "thing.test.ts").write_text("t\n")
    assert checks.count_lines(tmp_path) == (3, 3)


def test_settings_are_plain_json(tmp_path: Path) -> None:
    house._settings(Data(tmp_path))
    assert set(json.loads((tmp_path / "settings.json").read_text())) == {
        "database_port",
        "database_password",
        "application_password",
        "secret_key",
    }


def test_keys_are_made_once_and_missed_afterwards(tmp_path: Path) -> None:
    data = Data(tmp_path)
    house._check_keys(data, house._settings(data))
    key = data.key_file.read_text()
    assert data.key_file.stat().st_mode & 0o077 == 0
    house._check_keys(data, house._settings(data))
    assert data.key_file.read_text() == key
    data.key_file.unlink()
    with pytest.raises(DoorError, match="keys of the sealed data are missing"):
        house._check_keys(data, house._settings(data))


def test_a_new_key_needs_everything_stopped_and_something_sealed(tmp_path: Path) -> None:
    data = Data(tmp_path)
    with pytest.raises(DoorError, match="nothing sealed"):
        house.rekey(data)
    data.pid_file.write_text(f"{os.getpid()} {birth(os.getpid())}")
    with pytest.raises(DoorError, match="Stop it first"):
        house.rekey(data)


@pytest.mark.parametrize("told", ["0", "many", "99"])
def test_a_wrong_number_of_generators_is_told_before_anything_starts(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, told: str
) -> None:
    monkeypatch.setenv("KETTLE_GENERATORS", told)
    with pytest.raises(DoorError, match="whole number from 1 to 16"):
        house.start(Data(tmp_path), Site(free_port()), demo=False)


def test_a_generator_for_elsewhere_must_know_where_and_which(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    names = ("KETTLE_DB_HOST", "KETTLE_DB_PASSWORD", "KETTLE_KEY_FILE")
    for name in names:
        monkeypatch.delenv(name, raising=False)
    with pytest.raises(DoorError, match="KETTLE_DB_HOST is not set"):
        house.generate("north", "mill-2", 4, tmp_path / "log")
    for name in names:
        monkeypatch.setenv(name, "x")
    with pytest.raises(DoorError, match="'North Sea' is no region"):
        house.generate("North Sea", "mill-2", 4, tmp_path / "log")
    with pytest.raises(DoorError, match="--count is 0"):
        house.generate("north", "mill-2", 0, tmp_path / "log")


def test_only_what_runs_can_be_steered(tmp_path: Path) -> None:
    with pytest.raises(DoorError, match="It is not running"):
        house.steer(Data(tmp_path), ["1", "hold"])
