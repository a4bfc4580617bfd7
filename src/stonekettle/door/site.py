"""An installation on one machine whose generators live on machines of their own, as far as the network goes.

Each worker has a network namespace, joined to the database by a link of its own and to the practice system by a relay;
the database lies on a small disk. Needs root and ``ip``.
"""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from stonekettle.door.places import PYTHON, ROOT, DoorError, new_key, tool_environment
from stonekettle.door.postgres import Cluster, free_port, new_password
from stonekettle.door.session import Session
from stonekettle.door.supervisor import Child, Supervisor, descendants

NETWORK = "10.231"
REGIONS = ("north", "north", "south")
"""Of the three workers; the one in the south plays two generators."""
DISK_MB = 700
RESTART_LIMIT_S = 30.0


class Site:
    """An installation whose workers are machines of their own, as far as the network goes."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.disk = folder, folder / "disk"
        self.logs = folder / "logs"
        self.logs.mkdir()
        self.supervisor = Supervisor(lambda line: None)
        self.workers: list[Child] = []
        self.port, self.practice_port = free_port(), free_port()
        addresses = ("127.0.0.1", *(f"{NETWORK}.{i}.1" for i in range(len(REGIONS))))
        self.cluster = Cluster(self.disk / "postgres", free_port(), new_password(), addresses)
        key = folder / "keys"
        key.write_text(new_key())
        self.environment = tool_environment(
            **self.cluster.environment,
            DJANGO_SETTINGS_MODULE="stonekettle.server.settings",
            KETTLE_DATA=str(folder),
            KETTLE_SECRET_KEY=new_password(),
            KETTLE_KEY_FILE=str(key),
            KETTLE_PRACTICE=f"http://127.0.0.1:{self.practice_port}",
            KETTLE_REGION="north",
            KETTLE_GENERATORS="2",
        )
        self.session: Session | None = None
        self._watching = threading.Thread(target=self.supervisor.watch, name="watch", daemon=True)
        self._relays: list[subprocess.Popen[bytes]] = []

    def build(self) -> None:
        for i in range(len(REGIONS)):
            ip("netns", "add", f"kf{i}")
            ip("link", "add", f"kf{i}h", "type", "veth", "peer", "name", f"kf{i}n")
            ip("link", "set", f"kf{i}n", "netns", f"kf{i}")
            ip("addr", "add", f"{NETWORK}.{i}.1/30", "dev", f"kf{i}h")
            ip("link", "set", f"kf{i}h", "up")
            ip("-n", f"kf{i}", "addr", "add", f"{NETWORK}.{i}.2/30", "dev", f"kf{i}n")
            ip("-n", f"kf{i}", "link", "set", f"kf{i}n", "up")
            ip("-n", f"kf{i}", "link", "set", "lo", "up")
        self.cluster.initialise()
        with (self.cluster.folder / "pg_hba.conf").open("a") as rules:
            rules.write(f"host all all {NETWORK}.0.0/16 scram-sha-256\n")
        self._child("postgres", self.cluster.command, signal.SIGINT, self.cluster.identity())
        self.cluster.wait_until_ready()
        sign_in = self.folder / "sign-in.txt"
        sign_in.write_text(f"planner {new_password()}\n")
        for command in (["migrate", "--verbosity", "0"], ["seed_demo", "--sign-in", str(sign_in), "--no-demo"]):
            subprocess.run([str(PYTHON), "-m", "django", *command], env=self.environment, check=True)
        worker = ["django", "procrastinate", "worker", "--queues", "conductor", "--concurrency", "3"]
        self._child("practice", self._python("stonekettle.practice", "--control-port", str(self.practice_port)))
        self._child("web", self._python("stonekettle.server.wsgi", "--port", str(self.port)))
        self._child("conductor", self._python(*worker))
        # A worker ends where its database is away, and is started again.
        self._watching.start()
        name, password = sign_in.read_text().split()
        self.session = Session(self.port, name, password)
        gateway = Session(self.practice_port).get("/directory")["gateway"][0].rpartition(":")[2]
        for i in range(len(REGIONS)):
            socket = self.folder / f"kf{i}.socket"
            self._relay(None, str(socket), f"127.0.0.1:{gateway}")
            self._relay(i, f"127.0.0.1:{gateway}", str(socket), str(self._note(i)))
            self.start_worker(i)

    def start_worker(self, i: int, skew_s: float = 0.0) -> None:
        """A worker in its namespace, with a clock that may be ahead."""
        environment = {
            **self.environment,
            "KETTLE_DB_HOST": f"{NETWORK}.{i}.1",
        }
        several = "2" if REGIONS[i] == "south" else "1"
        shape = ["--region", REGIONS[i], "--label", f"machine-{i}", "--count", several]
        command = [str(PYTHON), str(ROOT / "kettle"), "generator", *shape]
        if skew_s:
            skewed = self.folder / "skewed"
            skewed.mkdir(exist_ok=True)
            told = f"import time\n_real = time.time\ntime.time = lambda: _real() + {skew_s}\n"
            (skewed / "sitecustomize.py").write_text(told)
            # The door gives every process a path of its own: go round it.
            environment["PYTHONPATH"] = f"{skewed}{os.pathsep}{environment['PYTHONPATH']}"
            queue = f"region-{REGIONS[i]}"
            command = self._python("django", "procrastinate", "worker", "--queues", queue, "--concurrency", several)
        inside = ["ip", "netns", "exec", f"kf{i}", *command]
        child = Child(f"worker-{i}", inside, environment, self.logs / f"worker-{i}.log")
        child.start()
        self.workers[i:] = [child, *self.workers[i + 1 :]]

    def stop_worker(self, i: int) -> None:
        process = self.workers[i].process
        if process is not None:
            for pid, _ in descendants(process.pid):
                with suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
            process.kill()
            process.wait()

    def owner(self, i: int) -> int:
        """The process of a machine that owns generators."""
        process = self.workers[i].process
        assert process is not None  # started
        return next(pid for pid, _ in descendants(process.pid) if b"procrastinate" in _command(pid))

    def generators(self, i: int) -> list[int]:
        """The processes that make a worker's load."""
        return [pid for pid, _ in descendants(self.owner(i)) if b"stonekettle.engine.process" in _command(pid)]

    def postgres(self) -> list[int]:
        child = self._postgres()
        assert child.process is not None  # started
        return [child.process.pid, *(pid for pid, _ in descendants(child.process.pid))]

    def restart_database(self) -> None:
        """End it as an update would; whoever watches starts it again."""
        child = self._postgres()
        before = child.process
        assert before is not None  # started
        before.send_signal(signal.SIGINT)
        give_up = time.monotonic() + RESTART_LIMIT_S
        while child.process is before and time.monotonic() < give_up:
            time.sleep(0.1)

    def last_load(self, i: int) -> float:
        """When a worker's load last moved a byte (s since the epoch)."""
        with suppress(OSError, ValueError):
            return float(self._note(i).read_text())
        return 0.0

    def served(self) -> int:
        """Requests answered so far; asked until nothing moves any more."""
        before = -1
        while (now := int(Session(self.practice_port).get("/answered")["total"])) != before:
            before = now
            time.sleep(0.7)
        return now

    def close(self) -> None:
        for i in range(len(self.workers)):
            self.stop_worker(i)
        self.supervisor.request_stop()
        if self._watching.is_alive():
            self._watching.join(5.0)
        self.supervisor.stop_all()
        for relay in self._relays:
            relay.kill()
            relay.wait()
        for i in range(len(REGIONS)):
            subprocess.run(["ip", "netns", "del", f"kf{i}"], check=False, capture_output=True)

    def _postgres(self) -> Child:
        return next(child for child in self.supervisor.children if child.name == "postgres")

    def _note(self, i: int) -> Path:
        return self.folder / f"kf{i}.last"

    def _relay(self, i: int | None, *addresses: str) -> None:
        inside = ["ip", "netns", "exec", f"kf{i}"] if i is not None else []
        command = [*inside, *self._python("stonekettle.door.relay", *addresses)]
        self._relays.append(subprocess.Popen(command, env=self.environment))

    def _child(self, name: str, command: list[str], number: signal.Signals = signal.SIGTERM, who: Any = None) -> None:
        self.supervisor.start(Child(name, command, self.environment, self.logs / f"{name}.log", number, who or {}))

    @staticmethod
    def _python(*module: str) -> list[str]:
        return [str(PYTHON), "-m", *module]


def ip(*words: str) -> None:
    done = subprocess.run(["ip", *words], capture_output=True, text=True, check=False)
    if done.returncode != 0:
        raise DoorError(f"ip {' '.join(words)} failed: {done.stderr.strip()}. Network namespaces need root.")


def _command(pid: int) -> bytes:
    with suppress(OSError):
        return Path(f"/proc/{pid}/cmdline").read_bytes()
    return b""


@contextmanager
def site() -> Iterator[Site]:
    folder = Path(tempfile.mkdtemp(prefix="kettle-faults-"))
    folder.chmod(0o755)
    (folder / "disk").mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={DISK_MB}m", "tmpfs", str(folder / "disk")], check=True)
    made = Site(folder)
    try:
        made.build()
        yield made
    finally:
        made.close()
        subprocess.run(["umount", "-l", str(folder / "disk")], check=False)
        if not os.environ.get("KETTLE_KEEP"):
            shutil.rmtree(folder, ignore_errors=True)
