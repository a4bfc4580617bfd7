"""Installing: what is up to date is skipped, what fails is one clear error."""

from __future__ import annotations

import shutil
from collections import namedtuple
from pathlib import Path

import pytest

from stonekettle.door import install
from stonekettle.door.install import Step
from stonekettle.door.places import DoorError


@pytest.fixture
def stamps(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setattr(install, "STAMPS", tmp_path / "stamps")
    monkeypatch.setattr(install, "ROOT", tmp_path)
    return tmp_path


def test_a_step_is_done_until_one_of_its_files_changes(stamps: Path) -> None:
    source = stamps / "lock"
    source.write_text("one")
    assert not install.is_stamped("npm", [source])
    install.stamp("npm", [source])
    assert install.is_stamped("npm", [source])
    source.write_text("two")
    assert not install.is_stamped("npm", [source])


def test_only_steps_that_are_not_done_are_done_and_told(monkeypatch: pytest.MonkeyPatch) -> None:
    done: list[str] = []
    found = [
        Step("old", lambda: True, lambda: done.append("old"), ""),
        Step("new", lambda: False, lambda: done.append("new"), ""),
    ]
    monkeypatch.setattr(install, "steps", lambda testing: found)
    told: list[str] = []
    install.install(say=told.append)
    assert done == ["new"]
    assert told[0] == "[1/1] new …"
    assert told[1].startswith("[1/1] new: done in")


def test_a_full_disk_is_told_before_anything_is_installed(monkeypatch: pytest.MonkeyPatch) -> None:
    usage = namedtuple("usage", "total used free")
    monkeypatch.setattr(shutil, "disk_usage", lambda path: usage(1, 1, 1_000_000))
    monkeypatch.setattr(install, "steps", lambda testing: [Step("x", lambda: False, lambda: None, "")])
    with pytest.raises(DoorError, match="nearly full"):
        install.install()


def test_a_command_that_fails_is_one_error_with_its_words() -> None:
    with pytest.raises(DoorError, match=r"(?s)While trying.*went wrong"):
        install.run(["sh", "-c", "echo it went wrong; exit 3"], "trying")


def test_a_command_that_is_not_there_is_told() -> None:
    with pytest.raises(DoorError, match="no-such-program is not installed"):
        install.run(["no-such-program"], "trying")


def test_without_root_the_line_to_type_is_printed(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("os.geteuid", lambda: 1000)
    monkeypatch.setattr(install, "missing_packages", lambda testing: ["postgresql"])
    with pytest.raises(DoorError, match="sudo apt-get install -y --no-install-recommends postgresql"):
        install.install_packages(testing=False)
