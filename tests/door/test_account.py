"""Started as root, an installation's processes are somebody else's."""

from __future__ import annotations

import os
import pwd
from pathlib import Path

import pytest

from stonekettle.door import account
from stonekettle.door.account import Account, chosen, first_shut, hand_over
from stonekettle.door.places import Data


@pytest.fixture
def open_data(tmp_path: Path) -> Data:
    folder = tmp_path / "data"
    (folder / "logs").mkdir(parents=True)
    for name in ("keys", "settings.json", "logs/web.log"):
        (folder / name).write_text("x")
    return Data(folder)


def test_who_is_not_root_stays_who_they_are(open_data: Data, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "geteuid", lambda: 1_000)
    assert chosen(open_data) == Account()
    assert Account().identity() == {}


def test_a_program_that_others_may_not_read_runs_as_root_and_says_so(
    open_data: Data, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    shut = tmp_path / "shut"
    shut.mkdir(mode=0o700)
    monkeypatch.setattr(account, "first_shut", lambda paths: shut)
    who = chosen(open_data)
    assert who.identity() == {}
    assert f"run as root, since no other account may enter {shut}" in who.warning


def test_the_first_folder_that_is_shut_is_found(tmp_path: Path) -> None:
    for folder in tmp_path.parents:
        if not folder.stat().st_mode & 0o001:
            assert first_shut([tmp_path]) is not None
            return
    (tmp_path / "a" / "b").mkdir(parents=True)
    tmp_path.chmod(0o755)
    assert first_shut([tmp_path / "a" / "b"]) is None
    (tmp_path / "a").chmod(0o700)
    assert first_shut([tmp_path, tmp_path / "a" / "b"]) == tmp_path / "a"


def test_the_data_become_theirs_but_for_what_the_door_keeps(open_data: Data, monkeypatch: pytest.MonkeyPatch) -> None:
    given: dict[str, int] = {}
    monkeypatch.setattr(os, "chown", lambda path, uid, gid: given.update({Path(path).name: uid}))
    hand_over(open_data, "nobody")
    assert given == dict.fromkeys(["data", "keys", "logs", "web.log"], pwd.getpwnam("nobody").pw_uid)
