"""Processes are kept running and ended together, with all they started."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from stonekettle.door.supervisor import Child, Supervisor, birth, descendants, end_left_over

SLEEP = [sys.executable, "-c", "import time; time.sleep(60)"]
SCRIPT = """
import subprocess, sys, time
subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
time.sleep(60)
"""
PARENT = [sys.executable, "-c", SCRIPT]


def child(tmp_path: Path, command: list[str]) -> Child:
    return Child("sleeper", command, dict(os.environ), tmp_path / "log")


def wait_until(condition: object, limit_s: float = 10.0) -> None:
    give_up = time.monotonic() + limit_s
    while not condition():  # type: ignore[operator]
        assert time.monotonic() < give_up
        time.sleep(0.05)


def test_a_killed_process_is_started_again(tmp_path: Path) -> None:
    told: list[str] = []
    supervisor = Supervisor(told.append)
    sleeper = child(tmp_path, SLEEP)
    supervisor.start(sleeper)
    watching = threading.Thread(target=supervisor.watch, name="watch")
    watching.start()
    assert sleeper.process is not None
    first = sleeper.process.pid
    os.kill(first, 9)
    wait_until(lambda: sleeper.process and sleeper.process.pid != first)
    supervisor.request_stop()
    watching.join()
    supervisor.stop_all()
    assert "starting it again" in told[0]
    assert birth(sleeper.process.pid) is None


def test_stopping_ends_what_a_process_started_too(tmp_path: Path) -> None:
    supervisor = Supervisor(print)
    parent = child(tmp_path, PARENT)
    supervisor.start(parent)
    assert parent.process is not None
    pid = parent.process.pid
    wait_until(lambda: descendants(pid))
    family = descendants(pid)
    supervisor.stop_all()
    wait_until(lambda: all(birth(p) is None for p, _ in family))
    assert birth(pid) is None


@pytest.mark.parametrize("pid", [2**22 - 1])
def test_nobody_has_no_birth(pid: int) -> None:
    assert birth(pid) is None


def test_only_its_owner_reads_a_log_old_or_new(tmp_path: Path) -> None:
    log = tmp_path / "log"
    log.write_text("from before\n")
    log.chmod(0o644)
    supervisor = Supervisor(print)
    supervisor.start(child(tmp_path, SLEEP))
    supervisor.stop_all()
    assert log.stat().st_mode & 0o777 == 0o600
    assert log.read_text().startswith("from before")


KEEPER = """
import signal, sys
from pathlib import Path
from stonekettle.door.supervisor import Child, Supervisor
folder, command = Path(sys.argv[1]), [sys.executable, "-c", "import time; time.sleep(60)"]
supervisor = Supervisor(print, folder / "children")
for name in ("a", "b"):
    supervisor.start(Child(name, command, {}, folder / "log"))
print(*(child.process.pid for child in supervisor.children), flush=True)
supervisor.watch()
"""


def test_children_end_with_a_supervisor_that_is_killed(tmp_path: Path) -> None:
    keeper = subprocess.Popen([sys.executable, "-c", KEEPER, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    assert keeper.stdout is not None
    pids = [int(pid) for pid in keeper.stdout.readline().split()]
    assert all(birth(pid) for pid in pids)
    assert len((tmp_path / "children").read_text().splitlines()) == 2
    keeper.kill()
    keeper.communicate()
    wait_until(lambda: not any(birth(pid) for pid in pids))


def test_what_a_killed_supervisor_left_is_found_and_ended_and_nobody_else(tmp_path: Path) -> None:
    record = tmp_path / "children"
    left, other = (subprocess.Popen(PARENT) for _ in range(2))
    wait_until(lambda: descendants(left.pid))
    family = descendants(left.pid)
    record.write_text(f"{left.pid} {birth(left.pid)} 15\n{other.pid} 1 15\n")
    assert end_left_over(record) == 1
    left.wait()
    wait_until(lambda: not any(birth(pid) == born for pid, born in family))
    assert other.poll() is None
    assert not record.exists()
    assert end_left_over(record) == 0
    for pid, _ in descendants(other.pid):
        os.kill(pid, 9)
    other.kill()
    other.wait()
