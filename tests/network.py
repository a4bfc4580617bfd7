"""Programs in a network namespace of their own, where addresses and names are what a test makes them."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]


def run_inside(module: str, *arguments: str, limit_s: float, **environment: str) -> str:
    """Run a module of the tests in a fresh namespace; what it printed. Needs no rights where users may make
    namespaces."""
    as_somebody = [] if os.geteuid() == 0 else ["--map-root-user"]
    command = ["unshare", *as_somebody, "--net", "--mount", sys.executable, "-m", module, *arguments]
    whole = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}:{ROOT}", **environment}
    done = subprocess.run(command, env=whole, capture_output=True, timeout=limit_s, cwd=ROOT)
    assert done.returncode == 0, done.stderr.decode()[-6_000:]
    return done.stdout.decode()


def ip(line: str) -> None:
    """A command of iproute2, inside."""
    subprocess.run(["ip", *line.split()], check=True)


def replace_files(folder: Path, files: Mapping[str, str]) -> None:
    """Put other contents in the place of files of ``/etc``, for this namespace only."""
    for name, text in files.items():
        (folder / name).write_text(text)
        subprocess.run(["mount", "--bind", str(folder / name), f"/etc/{name}"], check=True)
