"""The host agent: this machine's resources as a metrics page.

Read-only, on loopback unless told otherwise, with a token if one is wanted. What it tells are
counters as the operating system keeps them, so that whoever reads the page chooses the interval.
"""

from __future__ import annotations

import os
import secrets
import threading
from collections.abc import Iterable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, NamedTuple

import psutil
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector, CollectorRegistry

DEFAULT_PORT = 9177
TOP = 6
"""So many processes are told by cpu, and so many by memory."""
_IDLE = ("idle", "iowait")
_WITHIN_USER = ("guest", "guest_nice")


class _Process(NamedTuple):
    pid: int
    name: str
    cpu_seconds: float
    resident_bytes: float


class HostCollector(Collector):
    """The machine's own figures, read anew for every page."""

    def __init__(self) -> None:
        self._cpu_before: dict[int, float] = {}
        self._lock = threading.Lock()

    def collect(self) -> Iterator[Metric]:
        yield from _cpu()
        yield from _memory()
        yield from _disks()
        yield from _network()
        with self._lock:
            yield from self._processes()

    def _processes(self) -> Iterator[Metric]:
        running = list(_running())
        grown = {p.pid: p.cpu_seconds - self._cpu_before.get(p.pid, 0.0) for p in running}
        self._cpu_before = {p.pid: p.cpu_seconds for p in running}
        busiest = sorted(running, key=lambda p: -grown[p.pid])[:TOP]
        largest = sorted(running, key=lambda p: -p.resident_bytes)[:TOP]
        yield _gauge("host_processes", "Processes", len(running))
        cpu = CounterMetricFamily("host_process_cpu_seconds", "CPU of the busiest processes", labels=["pid", "name"])
        for process in busiest:
            cpu.add_metric([str(process.pid), process.name], process.cpu_seconds)
        yield cpu
        memory = GaugeMetricFamily(
            "host_process_resident_bytes", "Memory of the largest processes", labels=["pid", "name"]
        )
        for process in largest:
            memory.add_metric([str(process.pid), process.name], process.resident_bytes)
        yield memory


def _cpu() -> Iterator[Metric]:
    times = psutil.cpu_times(percpu=True)
    busy = CounterMetricFamily("host_cpu_busy_seconds", "Time a core worked", labels=["core"])
    modes = CounterMetricFamily("host_cpu_mode_seconds", "Time of all cores by what they did", labels=["mode"])
    for core, spent in enumerate(times):
        worked = sum(v for mode, v in spent._asdict().items() if mode not in (*_IDLE, *_WITHIN_USER))
        busy.add_metric([str(core)], worked)
    for mode in times[0]._fields:
        modes.add_metric([mode], sum(getattr(spent, mode) for spent in times))
    yield busy
    yield modes
    yield _gauge("host_cpu_cores", "Cores", len(times))
    yield _gauge("host_boot_time_seconds", "When the machine started", psutil.boot_time())
    runnable = _runnable()
    if runnable is not None:
        yield _gauge("host_run_queue_length", "Threads that run or could run", runnable)
        yield _gauge("host_run_queue_waiting", "Threads that wait for a core", max(0, runnable - len(times)))


def _memory() -> Iterator[Metric]:
    memory, swap = psutil.virtual_memory(), psutil.swap_memory()
    yield _gauge("host_memory_used_bytes", "Memory that is not available", memory.total - memory.available)
    yield _gauge("host_memory_limit_bytes", "Memory", memory.total)
    yield _gauge("host_swap_used_bytes", "Swap in use", swap.used)
    yield _gauge("host_swap_limit_bytes", "Swap", swap.total)


def _disks() -> Iterator[Metric]:
    disks: dict[str, Any] = psutil.disk_io_counters(perdisk=True) or {}
    whole = {name: disk for name, disk in disks.items() if _is_whole_disk(name)}
    told = (
        ("host_disk_reads", "Read operations", "read_count", 1),
        ("host_disk_writes", "Write operations", "write_count", 1),
        ("host_disk_read_bytes", "Bytes read", "read_bytes", 1),
        ("host_disk_written_bytes", "Bytes written", "write_bytes", 1),
        ("host_disk_read_seconds", "Time reads took; over reads, their latency", "read_time", 1000),
        ("host_disk_write_seconds", "Time writes took; over writes, their latency", "write_time", 1000),
        ("host_disk_busy_seconds", "Time the disk was busy", "busy_time", 1000),
    )
    for name, text, field, divisor in told:
        family = CounterMetricFamily(name, text, labels=["disk"])
        for disk, counts in whole.items():
            if hasattr(counts, field):
                family.add_metric([disk], getattr(counts, field) / divisor)
        yield family


def _network() -> Iterator[Metric]:
    interfaces = {name: counts for name, counts in psutil.net_io_counters(pernic=True).items() if name != "lo"}
    for name, text, field in (
        ("host_network_received_bytes", "Bytes received", "bytes_recv"),
        ("host_network_sent_bytes", "Bytes sent", "bytes_sent"),
        ("host_network_dropped_packets", "Packets dropped", "dropin"),
    ):
        family = CounterMetricFamily(name, text, labels=["interface"])
        for interface, counts in interfaces.items():
            family.add_metric([interface], getattr(counts, field))
        yield family
    # Only some interfaces know their speed; without it there is no limit to tell.
    speeds = {name: stats.speed for name, stats in psutil.net_if_stats().items() if name in interfaces and stats.speed}
    if speeds:
        limit = GaugeMetricFamily("host_network_limit_bytes_per_second", "Speed, each way", labels=["interface"])
        for interface, megabits in speeds.items():
            limit.add_metric([interface], megabits * 125_000)
        yield limit


def _gauge(name: str, text: str, value: float) -> Metric:
    return GaugeMetricFamily(name, text, value)


def _running() -> Iterable[_Process]:
    for process in psutil.process_iter(["pid", "name", "cpu_times", "memory_info"]):
        told = process.info
        if told["cpu_times"] is not None and told["memory_info"] is not None:
            cpu = told["cpu_times"].user + told["cpu_times"].system
            yield _Process(told["pid"], told["name"] or "?", cpu, told["memory_info"].rss)


def _runnable() -> int | None:
    """Threads that run or could run; only Linux tells."""
    try:
        return int(Path("/proc/loadavg").read_text().split()[3].partition("/")[0])
    except (OSError, ValueError, IndexError):
        return None


def _is_whole_disk(name: str) -> bool:
    """Not a partition of one, whose work would count twice; nor a disk in memory or in a file."""
    if name.startswith(("loop", "ram", "zram")):
        return False
    folder = Path("/sys/block")
    return not folder.is_dir() or (folder / name.replace("/", "!")).exists()


class Agent(ThreadingHTTPServer):
    """Serves the page at /metrics. ``port`` 0 picks a free one."""

    daemon_threads = True

    def __init__(self, host: str, port: int, token: str | None) -> None:
        super().__init__((host, port), _Handler)
        self.token = token
        self.registry = CollectorRegistry()
        self.registry.register(HostCollector())

    @property
    def url(self) -> str:
        return f"http://{self.server_address[0]!s}:{self.server_address[1]}/metrics"


class _Handler(BaseHTTPRequestHandler):
    server: Agent
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        if self.path.partition("?")[0] != "/metrics":
            return self._answer(404, b"The metrics are at /metrics.\n", "text/plain")
        given = self.headers.get("Authorization", "")
        if self.server.token is not None and not secrets.compare_digest(given, f"Bearer {self.server.token}"):
            return self._answer(401, b"The token is missing or wrong.\n", "text/plain")
        page = generate_latest(self.server.registry)  # type: ignore[no-untyped-call]
        return self._answer(200, page, CONTENT_TYPE_LATEST)

    def _answer(self, status: int, body: bytes, content_type: str) -> None:
        self.send_response(status)
        self.send_header("Content-Type", content_type)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *args: object) -> None:
        """Says nothing: it is asked every second."""


def token_from(file: Path | None) -> str | None:
    """The token in a file, or in KETTLE_AGENT_TOKEN. An empty one is refused."""
    text = file.read_text() if file is not None else os.environ.get("KETTLE_AGENT_TOKEN")
    if text is None:
        return None
    if not text.strip():
        raise ValueError("the token is empty")
    return text.strip()
