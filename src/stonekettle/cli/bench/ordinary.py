"""Does the demo answer on a machine that others use? Its plan and quick ones, from the command line,
beside two thieves that take half of both cores in bursts."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from random import Random
from typing import Any

import numpy as np

from stonekettle.cli.bench import Figure
from stonekettle.core.histogram import percentile_s
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice import config as practice
from stonekettle.practice import truth as known
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.twin import journeys_of, simulate

ROOT = Path(__file__).resolve().parents[4]
EXAMPLES = ROOT / "examples"
QUICK_RUNS = 10
BURST_S = (0.020, 0.300)
RUN_LIMIT_S = 600.0
LONG_RUN_COMPLETIONS = 40_000
LEAST_COVERED = 0.85


def measure(*, quick: bool) -> list[Figure]:
    """How many of eleven runs answer, and how often the truth lies in what they say (three with ``quick``)."""
    names = ["quick"] * 3 if quick else ["quillport", *["quick"] * QUICK_RUNS]
    truths = {name: truth_of(_plan(name), practice.quillport()) for name in set(names)}
    answered, covered, rows = [], [], []
    with _thieves():
        for number, name in enumerate(names, start=1):
            found = _run(name)
            claims = claims_of(found)
            inside = {key: low <= truths[name][key] <= high for key, (low, high) in claims.items()}
            limit = found["findings"]["limiting"].get("resource") or {}
            answered.append(set(claims) == set(truths[name]) and limit.get("key") == "ledger.cpu")
            covered += [inside.get(key, False) for key in truths[name]]
            said = ", ".join(f"{key} {low:.0f}–{high:.0f}" for key, (low, high) in claims.items())
            stolen = found["findings"]["measuring"]["stolen"]
            rows.append(Figure(f"{number}. {name}, host took {stolen:.0%}", said or found["verdict"], "", None))
    told = "; ".join(f"{name}: " + ", ".join(f"{k} {v:.0f}" for k, v in real.items()) for name, real in truths.items())
    share = float(np.mean(covered))
    return [
        Figure("truth (users)", told, "", None),
        *rows,
        Figure("runs answered", f"{sum(answered)} of {len(answered)}", "all", all(answered)),
        Figure("truth within the interval", f"{share:.0%}", f"at least {LEAST_COVERED:.0%}", share >= LEAST_COVERED),
    ]


def claims_of(found: Mapping[str, Any]) -> dict[str, tuple[float, float]]:
    """The intervals a result claims, in users; a claim that was not made is missing."""
    findings = found["findings"]
    ends = {"saturation": findings["saturation"].get("load"), "comfort": findings["comfort"].get("load")}
    return {key: (users["low"], users["high"]) for key, users in ends.items() if users}


def truth_of(plan: Plan, config: PracticeConfig) -> dict[str, float]:
    """Where the practice system saturates under this plan's journeys, and up to where its objectives hold (users)."""
    mix, think = known.mix_of(journeys_of(plan))
    real = known.compute(config, mix, think)
    low, high = 1.0, float(plan.planned.peak_users)
    while high - low > 0.005 * high:
        middle = round((low + high) / 2)
        if not low < middle < high:
            break
        if _holds(plan, config, real, middle):
            low = middle
        else:
            high = middle
    return {"saturation": real.users, "comfort": (low + high) / 2}


def _holds(plan: Plan, config: PracticeConfig, real: known.Truth, users: int) -> bool:
    """Whether every objective on a response time holds for so many users, by one long run in virtual time."""
    rate = min(real.throughput_limit, users / (real.think_s + real.light_response_s))
    settle = 6 * (real.think_s + users / rate)
    profile = LoadProfile((Segment.hold(users, settle + LONG_RUN_COMPLETIONS / rate),))
    run = simulate(config, journeys_of(plan), profile, seed=7, cpu_noise=0)
    counted = np.arange(run.seconds) >= settle
    return all(
        percentile_s(run.histograms.merged(counted, run.cells_of(goal.steps)), goal.percent) <= goal.limit
        for goal in document.core_objectives(plan)
        if goal.kind == "response"
    )


def _plan(name: str) -> Plan:
    return document.read((EXAMPLES / f"{name}.yaml").read_text())


def _run(name: str) -> dict[str, Any]:
    with tempfile.TemporaryDirectory(prefix="kettle-bench-") as folder:
        command = ["run", str(EXAMPLES / f"{name}.yaml"), "--out", folder, "--practice"]
        subprocess.run(
            [sys.executable, "-m", "stonekettle.cli", *command],
            stdout=subprocess.DEVNULL,
            timeout=RUN_LIMIT_S,
            check=False,
        )
        found: dict[str, Any] = json.loads((Path(folder) / "result.json").read_text())
        return found


@contextmanager
def _thieves() -> Iterator[None]:
    """One thief for each core, for as long as it is needed."""
    cores = sorted(os.sched_getaffinity(0))
    started = [subprocess.Popen([sys.executable, "-m", "stonekettle.cli.bench.ordinary", str(core)]) for core in cores]
    try:
        yield
    finally:
        for process in started:
            process.terminate()
            process.wait()


def _steal(core: int) -> None:
    """Keep a core busy for half of the time, 20 to 300 ms at a time, until told to end."""
    os.sched_setaffinity(0, {core})
    random = Random(core)
    parent = os.getppid()
    while os.getppid() == parent:
        until = time.perf_counter() + random.uniform(*BURST_S)
        while time.perf_counter() < until:
            pass
        time.sleep(random.uniform(*BURST_S))


if __name__ == "__main__":
    _steal(int(sys.argv[1]))
