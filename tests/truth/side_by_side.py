"""Runs against practice systems of their own, from the command line and over real sockets, several at a time."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import yaml

from stonekettle.cli import run

ROOT = Path(__file__).parents[2]
TRIES = 3
RUN_LIMIT_S = 240


@dataclass
class Played:
    """A plan and a practice configuration in a folder, and what a run of them found. ``proves`` tells from its
    findings whether it shows what is looked for: one whose levels prove nothing says so itself and is worth another
    try."""

    folder: Path
    proves: Callable[[dict[str, Any]], bool]
    code: int = run.NOT_TRUSTWORTHY

    @classmethod
    def of(
        cls, folder: Path, plan: dict[str, Any], practice: dict[str, Any], proves: Callable[[dict[str, Any]], bool]
    ) -> Played:
        (folder / "plan.yaml").write_text(yaml.safe_dump(plan))
        (folder / "practice.yaml").write_text(yaml.safe_dump(practice))
        return cls(folder, proves)

    @property
    def found(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads((self.folder / "out" / "result.json").read_text())
        return found

    @property
    def settled(self) -> bool:
        """Whether another try would be worth nothing."""
        return self.code != run.NOT_TRUSTWORTHY and self.proves(self.found["findings"])

    def start(self) -> subprocess.Popen[bytes]:
        words = ("run", "plan.yaml", "--out", "out", "--practice", "--practice-config", "practice.yaml")
        return subprocess.Popen(
            [sys.executable, "-m", "stonekettle.cli", *words],
            cwd=self.folder,
            stdout=subprocess.DEVNULL,
            env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
        )


def play(cases: Iterable[Played]) -> None:
    """All side by side, until each is settled or was tried ``TRIES`` times."""
    everything = list(cases)
    for _ in range(TRIES):
        wanted = [case for case in everything if not case.settled]
        for case, process in [(case, case.start()) for case in wanted]:
            case.code = process.wait(RUN_LIMIT_S)
