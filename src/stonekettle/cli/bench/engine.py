"""The engine against a bare libcurl loop, both against a local nginx that answers 50 bytes.

The server is pinned to one core, the loop under test to the other, so the figures are per core.
"""

from __future__ import annotations

import multiprocessing
import os
import queue
import resource
import shutil
import socket
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pycurl

from stonekettle.cli.bench import Figure
from stonekettle.engine import rollup
from stonekettle.engine.generator import LoadLoop, settle_interpreter
from stonekettle.engine.lead import Lead, Phase
from stonekettle.engine.local import LocalGenerators
from stonekettle.engine.process import raise_descriptor_limit
from stonekettle.engine.records import view
from stonekettle.engine.rollup import Second
from stonekettle.engine.script import compile_plan, most_users
from stonekettle.engine.wire import write_frame
from stonekettle.plan import document

ROUNDS = 3
SECONDS = 5.0
NGINX = """
daemon off; worker_processes 1; pid {folder}/nginx.pid; error_log {folder}/error.log;
worker_rlimit_nofile 19000;
events {{ worker_connections 18000; }}
http {{
  access_log off; keepalive_requests 1000000000; keepalive_timeout 600s;
  client_body_temp_path {folder}; proxy_temp_path {folder}; fastcgi_temp_path {folder};
  uwsgi_temp_path {folder}; scgi_temp_path {folder};
  server {{ listen 127.0.0.1:{port} backlog=16384;
    location / {{ return 200 "01234567890123456789012345678901234567890123456789"; }} }}
}}
"""


@dataclass(frozen=True)
class Load:
    """What one loop did. Lag and gap are 99th percentiles over the settled seconds, in s."""

    requests: int
    cpu_s: float
    wall_s: float
    lag_p99_s: float = 0.0
    gap_p99_s: float = 0.0
    memory_mb: float = 0.0

    @property
    def per_cpu_second(self) -> float:
        return self.requests / self.cpu_s


def measure(*, quick: bool) -> list[Figure]:
    """Ratios to the bare loop at 50, 500 and 2,000 users, and 10,000 users with think time."""
    rounds, seconds = (1, 3.0) if quick else (ROUNDS, SECONDS)
    figures = []
    with nginx() as url:
        for users, target in ((50, 0.5), (500, 0.9), (2000, 0.9)):
            ratios, speeds = [], []
            for _ in range(rounds):
                bare = apart(_bare_loop, url, users, seconds)
                full = apart(full_loop, url, users, seconds, 0.0)
                ratios.append(full.per_cpu_second / bare.per_cpu_second)
                speeds.append(full.per_cpu_second)
            ratio = float(np.median(ratios))
            figures.append(
                Figure(
                    f"{users} users, no think time: requests per cpu second, ratio to the bare loop",
                    f"{ratio:.2f} ({np.median(speeds) / 1000:.1f}k/s)",
                    f"at least {target}",
                    ratio >= target,
                )
            )
        figures += [*_arrivals(url, 10.0 if quick else 20.0), *_two_for_one(url, rounds, seconds)]
        figures += _thinkers(url, 2_000 if quick else 10_000, 5.0, 10.0 if quick else 20.0)
    return figures


def _thinkers(url: str, users: int, think_s: float, seconds: float) -> list[Figure]:
    load = apart(full_loop, url, users, seconds, think_s)
    cpu = load.cpu_s / load.wall_s
    name = f"{users} users thinking {think_s:.0f} s, own connections"
    return [
        Figure(f"{name}: share of a core", f"{cpu:.0%}", "under 35 %", cpu < 0.35),
        Figure(f"{name}: start lag p99", f"{load.lag_p99_s * 1000:.1f} ms", "under 5 ms", load.lag_p99_s < 0.005),
        Figure(f"{name}: hidden gap p99", f"{load.gap_p99_s * 1000:.1f} ms", "under 5 ms", load.gap_p99_s < 0.005),
        Figure(f"{name}: memory", f"{load.memory_mb:.0f} MB", "under 350 MB", load.memory_mb < 350),
    ]


def _arrivals(url: str, seconds: float) -> list[Figure]:
    load = apart(arrivals, url, 5_000.0, seconds)
    name = "5000 arrivals/s (Poisson) over kept connections"
    rate = load.requests / load.wall_s
    return [
        Figure(f"{name}: started a second", f"{rate:.0f}", "at least 4900", rate >= 4_900),
        Figure(f"{name}: start lag p99", f"{load.lag_p99_s * 1000:.1f} ms", "under 5 ms", load.lag_p99_s < 0.005),
    ]


def _two_for_one(url: str, rounds: int, seconds: float) -> list[Figure]:
    """Two generators under one lead against one. The server runs on the same cores, so what the two could carry with
    a core each is told by the processor time they took."""
    by_cpu, by_clock = [], []
    for _ in range(rounds):
        (one_cpu, one), (two_cpu, two) = (_led(url, count, seconds) for count in (1, 2))
        by_cpu.append(2 * two_cpu / one_cpu)
        by_clock.append(two / one)
    ratio = float(np.median(by_cpu))
    beside = f"{np.median(by_clock):.2f}"
    return [
        Figure("two generators, a core each, by their cpu: ratio to one", f"{ratio:.2f}", "at least 1.7", ratio >= 1.7),
        Figure("two generators beside the server on these cores: ratio to one", beside, "", None),
    ]


def _led(url: str, generators: int, seconds: float) -> tuple[float, float]:
    """Requests per cpu second and per second of so many generators, with a check on each answer."""
    written = _plan(url, "GET /", 0.0, load=[{"hold": {"users": 40 * generators, "for": f"{seconds:.3f} s"}}])
    step = written["journeys"][0]["steps"][0]  # type: ignore[index]
    step["checks"] = [{"matches": "[0-9]{20}"}]
    step["keep"] = [{"name": "last", "regex": "([0-9]+)$"}]
    plan = document.from_document(written)
    told: list[dict[str, Any]] = []
    control = LocalGenerators(generators, lambda name, second: told.append(second.rollup))
    groups = compile_plan(plan).groups
    lead = Lead(plan.planned, groups, wanted=dict(control.regions(plan)), feeds={}, room=most_users(plan))
    control.start(plan)
    try:
        while lead.phase is not Phase.OVER:
            for action in lead.step(time.monotonic(), control.heard()):
                control.do(action)
            time.sleep(0.02)
    finally:
        control.close()
    settled = [rollup for rollup in told if 1 <= rollup["second"] < seconds - 1]
    requests = sum(sum(rollup["completed"]) for rollup in settled)
    return requests / sum(rollup["cpu"] for rollup in settled), requests / (seconds - 2)


@contextmanager
def nginx() -> Iterator[str]:
    """A pinned nginx on a free port; yields its address."""
    program = shutil.which("nginx", path=f"{os.environ.get('PATH', '')}:/usr/sbin")
    if program is None:
        raise SystemExit("This benchmark needs nginx:  apt-get install -y nginx-light")
    folder = Path(tempfile.mkdtemp(prefix="kettle-bench-"))
    folder.chmod(0o777)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    config = folder / "nginx.conf"
    config.write_text(NGINX.format(folder=folder, port=port))
    process = subprocess.Popen(
        [program, "-c", str(config), "-p", str(folder)],
        preexec_fn=lambda: os.sched_setaffinity(0, {_cores()[-1]}),
        stderr=subprocess.DEVNULL,
    )
    try:
        for _ in range(100):
            try:
                socket.create_connection(("127.0.0.1", port), 0.2).close()
                break
            except OSError:
                time.sleep(0.05)
        yield f"http://127.0.0.1:{port}"
    finally:
        process.terminate()
        process.wait()
        shutil.rmtree(folder, ignore_errors=True)


def _cores() -> list[int]:
    return sorted(os.sched_getaffinity(0))


def apart(work: Callable[..., Load], *arguments: object) -> Load:
    """Run ``work`` in a fresh process on the first core."""
    context = multiprocessing.get_context("spawn")
    answers = context.SimpleQueue()
    process = context.Process(target=_child, args=(answers, work, arguments))
    process.start()
    found: Load = answers.get()
    process.join()
    return found


def _child(answers: object, work: Callable[..., Load], arguments: tuple[object, ...]) -> None:
    os.sched_setaffinity(0, {_cores()[0]})
    answers.put(work(*arguments))  # type: ignore[attr-defined]


def _bare_loop(url: str, users: int, seconds: float) -> Load:
    """The least a libcurl loop can do: send, wait, count. One connection pool, no records."""
    raise_descriptor_limit(users)
    multi = pycurl.CurlMulti()
    multi.setopt(pycurl.M_MAXCONNECTS, users)
    handles = []
    for _ in range(users):
        handle = pycurl.Curl()
        handle.setopt(pycurl.URL, url + "/")
        handle.setopt(pycurl.WRITEFUNCTION, len)
        handle.setopt(pycurl.NOSIGNAL, 1)
        handles.append(handle)
        multi.add_handle(handle)
    requests = 0
    began, cpu = time.perf_counter(), time.process_time()
    while time.perf_counter() - began < seconds:
        multi.perform()
        while True:
            queued, good, bad = multi.info_read(256)
            for handle in [*good, *(b[0] for b in bad)]:
                requests += 1
                multi.remove_handle(handle)
                multi.add_handle(handle)
            if not queued:
                break
        if users <= 900:
            multi.select(0.01)
    return Load(requests, time.process_time() - cpu, time.perf_counter() - began)


def full_loop(url: str, users: int, seconds: float, think_s: float, feed: str = "") -> Load:
    """The engine with everything on that a generator does: own connections, records, seconds on the wire
    (its owner folds and packs them). With a ``feed`` (CSV text with the columns rider and zone) each
    request sends its row."""
    ramp = 0.0 if think_s == 0 else max(1.0, users / 1000)
    rising = [{"ramp": {"from": 1, "to": users, "over": f"{ramp:.3f} s"}}] if ramp else []
    page = "GET /?rider={{rider}}&zone={{zone}}" if feed else "GET /"
    plan = _plan(url, page, think_s, load=[*rising, {"hold": {"users": users, "for": f"{seconds:.3f} s"}}])
    if feed:
        plan["feeds"] = [{"name": "riders", "csv": feed}]
    return _played(plan, ramp + min(2 * think_s, seconds / 2))


def arrivals(url: str, rate: float, seconds: float) -> Load:
    """Calls that arrive at random over connections that are kept, each one request."""
    hold = {"hold": {"rate": rate, "for": f"{seconds:.3f} s"}}
    callers = {"name": "callers", "arrivals": [hold], "at_most": 5_000, "connections": "kept"}
    return _played(_plan(url, "GET /", 0.0, groups=[callers]), 2.0)


def _plan(url: str, request: str, think_s: float, **load: object) -> dict[str, object]:
    step = {"name": "page", "request": request, "think": f"exponential {think_s * 1000:.0f} ms"}
    return {
        "name": "bench",
        "system": {"name": "nginx", "base_url": url},
        "journeys": [{"name": "visit", "steps": [step]}],
        **load,
    }


def _played(written: dict[str, object], settled_s: float) -> Load:
    """One loop that follows a plan in this process; lag and gap from ``settled_s`` on."""
    plan = document.from_document(written)
    raise_descriptor_limit(most_users(plan))
    outgoing: queue.SimpleQueue[tuple[Second, bytes] | None] = queue.SimpleQueue()
    emitted: list[tuple[Second, bytes]] = []

    def send() -> None:
        with open(os.devnull, "wb") as wire:
            while (item := outgoing.get()) is not None:
                write_frame(wire, "second", {"second": vars(item[0])}, [item[1]])
                emitted.append(item)

    writer = threading.Thread(target=send, name="seconds")
    writer.start()
    loop = LoadLoop.alone(plan, lambda second, data: outgoing.put((second, data)))
    settle_interpreter()
    began, cpu = time.perf_counter(), time.process_time()
    loop.run(began)
    outgoing.put(None)
    writer.join()
    cpu, wall = time.process_time() - cpu, time.perf_counter() - began
    one_cell = np.zeros((1, 1), dtype=np.int64)
    seen = [rollup.fold(second, view(data), one_cell)[0] for second, data in emitted]
    settled = [s for s in seen if settled_s <= s.second < plan.planned.duration_s - 1]
    return Load(
        requests=sum(sum(s.completed) for s in seen),
        cpu_s=cpu,
        wall_s=wall,
        lag_p99_s=float(np.median([s.lag_p99_s for s in settled] or [0.0])),
        gap_p99_s=float(np.median([s.hidden_gap_p99_s for s in settled] or [0.0])),
        memory_mb=resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024,
    )
