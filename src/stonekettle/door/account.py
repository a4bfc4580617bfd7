"""As whom the processes of an installation run: as root they would only be more to steal."""

from __future__ import annotations

import os
import pwd
import resource
import subprocess
import sys
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from stonekettle.door.places import PYTHON, ROOT, Data, DoorError

NAME = "stonekettle"
"""The system's account for them, made at the first start as root."""
AHEAD = 30
"""A limit on niceness of -10, as the kernel counts it."""
KEPT_BY_ROOT = ("settings.json", "kettle.pid", "children", "postgres")
"""What only the front door and PostgreSQL use."""


@dataclass(frozen=True)
class Account:
    """Who runs them; ``name`` is "" for whoever started it. ``warning`` says why that is root."""

    name: str = ""
    warning: str = ""

    def identity(self) -> dict[str, Any]:
        """As arguments of subprocess."""
        return {"user": self.name, "group": self.name, "extra_groups": []} if self.name else {}


def chosen(data: Data) -> Account:
    """An ordinary account where it was started as root, and can read the program; whose the data are then."""
    if os.geteuid() != 0:
        return Account()
    interpreter = Path(os.path.realpath(PYTHON))
    shut = first_shut([ROOT, interpreter, Path(sys.base_prefix), data.folder])
    if shut is not None:
        where = "Move it where everybody may read" if shut != data.folder else "Choose another with --data"
        return Account(warning=f"Its processes run as root, since no other account may enter {shut}. {where}.")
    _make(NAME)
    hand_over(data, NAME)
    # Generators go ahead of others for a processor, which root may let them; in a container it may not either.
    with suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_NICE, (AHEAD, AHEAD))
    return Account(NAME)


def first_shut(paths: Iterable[Path]) -> Path | None:
    """The first folder on the way to any of these that others may not pass."""
    for path in paths:
        whole = path.resolve()
        for folder in [*reversed(whole.parents), whole]:
            if folder.is_dir() and not folder.stat().st_mode & 0o001:
                return folder
    return None


def hand_over(data: Data, name: str) -> None:
    """Give the data to an account, but for what it has no business with."""
    owner = pwd.getpwnam(name)
    for path in (data.folder, *(one for one in data.folder.iterdir() if one.name not in KEPT_BY_ROOT)):
        for one in (path, *(path.rglob("*") if path != data.folder and path.is_dir() else ())):
            if not one.is_symlink():
                os.chown(one, owner.pw_uid, owner.pw_gid)


def _make(name: str) -> None:
    try:
        pwd.getpwnam(name)
    except KeyError:
        _run(["useradd", "--system", "--user-group", "--no-create-home", "--shell", "/usr/sbin/nologin", name])


def _run(command: Sequence[str]) -> None:
    done = subprocess.run(list(command), capture_output=True, text=True)
    if done.returncode != 0:
        raise DoorError(f"`{' '.join(command)}` failed: {done.stderr.strip()}")
