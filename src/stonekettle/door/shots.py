"""``./kettle shots``: refresh docs/screenshots from demo data."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from pathlib import Path

from stonekettle.door import install
from stonekettle.door.places import PYTHON, ROOT, tool_environment
from stonekettle.door.postgres import free_port


def refresh() -> int:
    """Start an own installation, run the quick demo in it, and photograph every main view."""
    install.install(testing=True)
    data = Path(tempfile.mkdtemp(prefix="kettle-shots-", dir="/tmp"))
    data.chmod(0o755)
    try:
        return subprocess.run(
            [str(PYTHON), str(ROOT / "tests" / "e2e" / "shots.py"), str(data), str(free_port())],
            env=tool_environment(),
            check=False,
        ).returncode
    finally:
        shutil.rmtree(data, ignore_errors=True)
