"""A real host through the agent, a real exporter, a real proxy and the practice system, metered in
one run on one clock, and held against the operating system's own figures."""

from __future__ import annotations

import csv
import io
import json
import os
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from unittest import mock

import numpy as np
import pytest
import urllib3
import yaml

from stonekettle.cli import run
from stonekettle.core.levels import measure
from stonekettle.core.orders import PlannedLevel
from stonekettle.door.postgres import free_port
from stonekettle.engine.lead import BEGIN_S
from stonekettle.engine.local import practice_directory
from stonekettle.report import processes, result
from tests.conftest import steady_run

ROOT = Path(__file__).parents[2]
HOLD_S = 20
CORES, TICKS = os.cpu_count() or 1, os.sysconf("SC_CLK_TCK")
NGINX = """
daemon off; worker_processes 1; pid {folder}/nginx.pid; error_log {folder}/error.log;
events {{ worker_connections 768; }}
http {{
  access_log off;
  client_body_temp_path {folder}/a; proxy_temp_path {folder}/b; fastcgi_temp_path {folder}/c;
  uwsgi_temp_path {folder}/d; scgi_temp_path {folder}/e;
  upstream trams {{ server {upstream}; keepalive 64; }}
  server {{
    listen 127.0.0.1:{port};
    location = /status {{ stub_status; }}
    location / {{ proxy_pass http://trams; proxy_http_version 1.1; proxy_set_header Connection ""; }}
  }}
}}
"""


class Watch:
    """Cpu and disk of the whole machine as the operating system tells them, each 0.2 s."""

    def __init__(self) -> None:
        self.times: list[float] = []
        self.idle: list[float] = []
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._look, daemon=True)

    def __enter__(self) -> Watch:
        self._thread.start()
        return self

    def __exit__(self, *error: object) -> None:
        self._stop.set()
        self._thread.join()

    def _look(self) -> None:
        while not self._stop.wait(0.2):
            spent = list(map(int, Path("/proc/stat").read_text().split("\n")[0].split()[1:9]))
            self.times.append(time.time())
            self.idle.append((spent[3] + spent[4]) / TICKS)

    def share(self, start: float, end: float) -> float:
        """The machine's busy share between two moments."""
        idle = np.interp(end, self.times, self.idle) - np.interp(start, self.times, self.idle)
        return 1 - float(idle) / ((end - start) * CORES)


class Terminal(io.StringIO):
    """Notes when the run says that load begins."""

    running_at = 0.0

    def write(self, text: str) -> int:
        if text.startswith("running"):
            self.running_at = time.time()
        return super().write(text)


@contextmanager
def started(*command: object, answers: str) -> Iterator[None]:
    """A process for as long as it is needed, once its page answers."""
    process = subprocess.Popen(
        [str(part) for part in command],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
    )
    try:
        give_up = time.monotonic() + 15
        while True:
            try:
                if urllib3.request("GET", answers, timeout=1, retries=False).status == 200:
                    break
            except urllib3.exceptions.HTTPError:
                pass
            assert time.monotonic() < give_up, answers
            time.sleep(0.1)
        yield
    finally:
        process.terminate()
        process.wait(10)


def test_host_exporter_proxy_and_practice_system_on_one_clock(tmp_path: Path) -> None:
    agent, exporter, proxy = (f"http://127.0.0.1:{free_port()}" for _ in range(3))
    nginx = shutil.which("nginx", path=f"{os.environ.get('PATH', '')}:/usr/sbin")
    with ExitStack() as stack:
        practice = stack.enter_context(run.PracticeProcess())
        directory = practice_directory(practice.control_url)
        config = tmp_path / "nginx.conf"
        gateway = directory["gateway"][0].removeprefix("http://")
        config.write_text(NGINX.format(folder=tmp_path, upstream=gateway, port=proxy.rpartition(":")[2]))
        port = agent.rpartition(":")[2]
        for command, address in (
            ((sys.executable, "-m", "stonekettle.cli", "agent", "--port", port), f"{agent}/metrics"),
            (("prometheus-node-exporter", f"--web.listen-address={exporter[7:]}"), f"{exporter}/metrics"),
            ((nginx, "-c", config), f"{proxy}/status"),
        ):
            stack.enter_context(started(*command, answers=address))
        watch = stack.enter_context(Watch())
        plan = {
            "name": "One clock",
            "system": {
                "name": "Everything real",
                "base_url": proxy,
                "components": [
                    {"name": "host", "meter": {"openmetrics": f"{agent}/metrics"}},
                    {"name": "exporter", "meter": {"openmetrics": f"{exporter}/metrics"}},
                    {
                        "name": "proxy",
                        "calls": ["gateway"],
                        "meter": {
                            "openmetrics": f"{proxy}/status",
                            "resources": [
                                {
                                    "name": "connections",
                                    "kind": "pool",
                                    "metric": "proxy_connections_active",
                                    "capacity": 768,
                                }
                            ],
                        },
                    },
                    {
                        "name": "gateway",
                        "meters": [
                            {"openmetrics": f"{directory['gateway'][0]}/metrics"},
                            {"server_timing": "gateway"},
                        ],
                    },
                ],
            },
            "journeys": [
                {"name": "look", "steps": [{"name": "page", "request": "GET /", "think": "exponential 200 ms"}]}
            ],
            "load": [{"hold": {"users": 60, "for": f"{HOLD_S} s"}}],
        }
        file = tmp_path / "plan.yaml"
        file.write_text(yaml.safe_dump(plan))
        terminal = Terminal()
        built = stack.enter_context(mock.patch.object(result, "build", wraps=result.build))
        run.run(file, tmp_path / "out", practice=False, practice_config=None, terminal=terminal)
    written = json.loads((tmp_path / "out" / "result.json").read_text())
    assert written["state"] == "finished"
    # The agent tells of processes, and those that made and bore the load are Python's.
    _, _, _, readings = built.call_args.args
    whole = measure(steady_run(seconds=HOLD_S), [PlannedLevel(0, HOLD_S, 100)])
    taking = dict(processes.busiest(readings, whole, HOLD_S)["host"])
    assert any(name.startswith("python") and cores > 0 for name, cores in taking.items()), taking
    rows = list(csv.DictReader(io.StringIO((tmp_path / "out" / "seconds.csv").read_text())))
    columns = {name: np.array([float(row[name] or "nan") for row in rows[:HOLD_S]]) for name in rows[0]}
    for name in ("host.cpu", "host.memory", "exporter.cpu", "exporter.memory", "proxy.connections", "gateway.cpu"):
        known = np.isfinite(columns[f"{name}.utilisation"])
        # A machine that others use may miss answers; what is missed shows as a gap.
        assert known.sum() >= HOLD_S / 2, name
    # Sixty users keep a connection each; some proxies count that of the status page too.
    assert np.nanmedian(columns["proxy.connections.utilisation"]) * 768 == pytest.approx(61, abs=8)
    begin = terminal.running_at + BEGIN_S
    seconds = range(2, HOLD_S - 2)
    for name in ("host", "exporter"):
        told_each = columns[f"{name}.cpu.utilisation"]
        known = [second for second in seconds if np.isfinite(told_each[second])]
        told = float(np.mean(told_each[known]))
        by_the_system = float(np.mean([watch.share(begin + second, begin + second + 1) for second in known]))
        print(f"{name}: {told:.3f}, operating system: {by_the_system:.3f}")
        # Both ends of the stretch are known to within the coarser of the two clocks' ticks.
        unsure = 2 * max(1.0 if len(known) < len(seconds) else 0.2, float(np.diff(watch.times).max())) / len(known)
        assert told == pytest.approx(by_the_system, abs=0.02 + unsure), name
    memory = float(np.nanmean(columns["host.memory.utilisation"]))
    assert memory == pytest.approx(float(np.nanmean(columns["exporter.memory.utilisation"])), abs=0.02)
