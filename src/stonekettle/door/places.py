"""Where things are on this machine."""

from __future__ import annotations

import base64
import os
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parents[3]
VENV = ROOT / ".venv"
PYTHON = VENV / "bin" / "python"
WEB = ROOT / "web"
STAMPS = VENV / "stamps"


class DoorError(Exception):
    """Something the person at the door must know, in one clear line."""


@dataclass(frozen=True)
class Data:
    """The folder with everything one installation keeps."""

    folder: Path

    @property
    def logs(self) -> Path:
        return self.folder / "logs"

    @property
    def pid_file(self) -> Path:
        return self.folder / "kettle.pid"

    @property
    def children_file(self) -> Path:
        return self.folder / "children"

    @property
    def settings_file(self) -> Path:
        return self.folder / "settings.json"

    @property
    def listeners_file(self) -> Path:
        return self.folder / "listeners.json"

    @property
    def key_file(self) -> Path:
        return self.folder / "keys"

    @property
    def sign_in_file(self) -> Path:
        return self.folder / "sign-in.txt"


def new_key() -> str:
    """A key that seals data at rest, as a line of the key file."""
    return base64.urlsafe_b64encode(os.urandom(32)).decode() + "\n"


def tool_environment(**more: str) -> dict[str, str]:
    """The environment of every process started: the virtual environment first on the path."""
    path = f"{VENV / 'bin'}{os.pathsep}{os.environ.get('PATH', '')}"
    return {**os.environ, "PATH": path, "PYTHONPATH": str(ROOT / "src"), "PYTHONUNBUFFERED": "1", **more}
