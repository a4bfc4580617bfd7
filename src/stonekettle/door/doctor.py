"""Says what is there, what is missing, and the fix."""

from __future__ import annotations

import resource
import shutil
import sys

from stonekettle.door import house, install
from stonekettle.door.places import ROOT, Data
from stonekettle.door.postgres import find_binaries

WANTED_DESCRIPTORS = 4096


def report(data: Data) -> tuple[list[str], bool]:
    """Lines of the report, and whether everything ``start`` needs is there."""
    lines = [f"Python {sys.version.split()[0]}"]
    binaries = find_binaries()
    lines.append(f"PostgreSQL {binaries.parent.name}" if binaries else "PostgreSQL: missing")
    healthy = True
    for step in install.steps():
        done = step.is_done()
        healthy = healthy and done
        lines.append(
            f"{'○' if done else '✕'} {step.name}{'' if done else f': missing or out of date — run {step.fix}'}"
        )
    for name in install.missing_packages(testing=True):
        lines.append(f"◐ Debian package {name}: missing, wanted by ./kettle test — apt-get install -y {name}")
    free = shutil.disk_usage(ROOT).free / 1e9
    lines.append(f"{'○' if free > 2 else '✕'} Disk: {free:.1f} GB free")
    limit = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    lines.append(
        f"{'○' if limit >= WANTED_DESCRIPTORS else '◐'} Open files: {limit} allowed, "
        f"enough for {max(0, limit - 200)} users on this machine"
    )
    running = house.running_pid(data)
    lines.append(f"Running as process {running}" if running else f"Not running (data in {data.folder})")
    return lines, healthy
