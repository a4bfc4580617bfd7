"""Storms against the practice cloud over real sockets: the curve of ready against its log, and what probes cost."""

from __future__ import annotations

import json
import resource
import time
import urllib.request
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import yaml

from stonekettle.cli.bench import Figure
from stonekettle.cli.run import PracticeProcess
from stonekettle.engine.allowance import LOOPBACK
from stonekettle.engine.local import practice_directory
from stonekettle.engine.probing import Prober

INSTANCES, PROBES = 2_500, 5_000
EVERY_S = 1.0
CORE, HELD_S = 0.5, 20.0
CONFIG: dict[str, Any] = {
    "components": [
        {"name": "gateway", "cpus": 4},
        {"name": "desks", "metered": False, "boots_s": 8.0, "boots_variation": 0.4},
    ],
    "routes": [{"method": "GET", "path": "/", "visits": [{"component": "gateway", "cpu_ms": 3}]}],
    "clones": 600,
}


@dataclass(frozen=True)
class Stormed:
    """When each instance was seen to be ready less when it was (s), by the log; of those ``asked``, ``ready``."""

    off_s: np.ndarray[tuple[int], np.dtype[np.float64]]
    asked: int
    ready: int
    took_s: float


def measure(*, quick: bool) -> list[Figure]:
    count, probes = (250, 500) if quick else (INSTANCES, PROBES)
    with TemporaryDirectory() as folder:
        file = Path(folder) / "practice.yaml"
        file.write_text(yaml.safe_dump(CONFIG))
        with PracticeProcess(file) as system:
            cloud = practice_directory(system.control_url)["cloud"][0]
            storm = stormed(cloud, count)
            share, late_s = cost(cloud, probes)
    early, late = float(storm.off_s.min()), float(storm.off_s.max())
    return [
        Figure("instances ready", f"{storm.ready} of {storm.asked}", "all", storm.ready == storm.asked),
        Figure("seen before it was, worst", f"{-min(0.0, early):.2f} s", "never", early > -0.05),
        Figure("seen later than it was, worst", f"{late:.2f} s", f"{EVERY_S:g} s", late <= EVERY_S + 0.25),
        Figure("  median", f"{float(np.median(storm.off_s)):.2f} s", "", None),
        Figure("  the storm took", f"{storm.took_s:.1f} s", "", None),
        Figure(f"{probes} probes every {EVERY_S:g} s cost", f"{share:.2f} cores", f"{CORE:g}", share < CORE),
        Figure("  asked late by, worst", f"{late_s:.2f} s", "", None),
    ]


def stormed(cloud: str, count: int) -> Stormed:
    """Start so many at once, and hold what probes saw against the log."""
    asked = {number: f"{cloud}/components/desks/instances/{number}/ready" for number in range(count)}
    begun, wall = time.monotonic(), time.time()
    with Prober(asked, 200, EVERY_S, 300, LOOPBACK.refusal) as prober:
        _put(f"{cloud}/components/desks/instances", {"instances": count})
        prober.over.wait(320)
    with urllib.request.urlopen(f"{cloud}/log", timeout=30) as answer:
        log = {one["instance"]: one for one in json.load(answer) if one["component"] == "desks"}
    seen = {n: one.ready_at - begun + wall for n, one in prober.probed.items() if one.ready_at is not None}
    # The first is there from the beginning.
    off = [at - max(log[n]["ready"], wall) for n, at in seen.items() if n > 0]
    return Stormed(np.array(off), count, len(seen), max(seen.values()) - wall)


def cost(cloud: str, probes: int) -> tuple[float, float]:
    """Cores that so many probes take which are never ready, and by how much the latest question was late (s)."""
    asked = {number: f"{cloud}/components/desks/instances/{number}/never" for number in range(probes)}
    with Prober(asked, 200, EVERY_S, HELD_S, LOOPBACK.refusal) as prober:
        time.sleep(2)
        before, began = resource.getrusage(resource.RUSAGE_SELF), time.monotonic()
        prober.over.wait(HELD_S + 5)
        after, took_s = resource.getrusage(resource.RUSAGE_SELF), time.monotonic() - began
    used = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return used / took_s, prober.latest_s


def _put(url: str, body: dict[str, object]) -> None:
    request = urllib.request.Request(
        url, data=json.dumps(body).encode(), method="PUT", headers={"Content-Type": "application/json"}
    )
    urllib.request.urlopen(request, timeout=60).close()
