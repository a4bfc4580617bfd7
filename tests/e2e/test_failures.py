"""Processes are killed in the middle of a run: the planner understands, and nothing is lost."""

from __future__ import annotations

import io
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow.parquet as pq
import pytest
from playwright.sync_api import Browser, Page, expect

from stonekettle.door.postgres import free_port
from stonekettle.door.supervisor import descendants
from tests.e2e.installation import ROOT, Installation, installation, sign_in

pytestmark = pytest.mark.e2e
QUICK = (Path(__file__).parents[2] / "examples" / "quick.yaml").read_text()


class Api:
    """The API through the signed-in page."""

    def __init__(self, page: Page) -> None:
        self.request = page.request
        self.token = next(c["value"] for c in page.context.cookies() if c.get("name") == "kettle_csrf")

    def get(self, path: str) -> Any:
        return self.request.get(f"/api{path}").json()

    def post(self, path: str, **body: object) -> Any:
        answer = self.request.post(f"/api{path}", data=body, headers={"X-CSRFToken": self.token})
        assert answer.ok, answer.text()
        return answer.json()

    def start(self, seconds: int, users: int = 20) -> int:
        text = QUICK.replace(
            "climb: {from: 30, to: 180, by: 30, every: 12 s}", f"hold: {{users: {users}, for: {seconds} s}}"
        )
        experiment = self.post("/experiments", source=text.replace("Quick look", f"Kill {time.time():.0f}"))
        return int(self.post(f"/experiments/{experiment['id']}/runs")["id"])

    def wait(self, run: int, until: Callable[[dict[str, Any]], bool], limit_s: float = 60) -> dict[str, Any]:
        give_up = time.monotonic() + limit_s
        while time.monotonic() < give_up:
            try:
                found: dict[str, Any] = self.get(f"/runs/{run}")
            except Exception:
                # The database is away: the answer is an error page.
                time.sleep(0.3)
                continue
            if "state" in found and until(found):
                return found
            time.sleep(0.2)
        raise AssertionError(f"run {run} is {found}")


def one(pids: list[int]) -> int:
    assert pids
    return pids[0]


@pytest.fixture
def api(page: Page) -> Api:
    return Api(page)


def test_a_killed_generator_leaves_a_failed_run_with_its_data(api: Api, page: Page, installed: Installation) -> None:
    run = api.start(60)
    api.wait(run, lambda r: r["elapsed_s"] >= 14)
    os.kill(one(installed.children("stonekettle.engine.process")), signal.SIGKILL)
    ended = api.wait(run, lambda r: r["ended"])
    assert ended["state"] == "failed"
    assert "A generator was lost at" in ended["cause"]
    assert ended["result"]["totals"]["duration_s"] >= 14
    assert rows(page, run) == ended["result"]["totals"]["requests"] > 0
    page.goto(f"{installed.url}/runs/{run}")
    expect(page.get_by_test_id("ending")).to_contain_text("A generator was lost")
    expect(page.get_by_test_id("plate")).to_be_visible()


def test_a_killed_worker_leaves_a_failed_run_and_the_next_one_works(api: Api, installed: Installation) -> None:
    run = api.start(120)
    api.wait(run, lambda r: r["elapsed_s"] >= 5)
    os.kill(one(worker(installed, "conductor")), signal.SIGKILL)
    ended = api.wait(run, lambda r: r["ended"], limit_s=90)
    assert ended["state"] == "failed"
    assert "worker that led the run was lost" in ended["cause"]
    assert ended["result"]["totals"]["requests"] > 0
    following = api.start(12)
    finished = api.wait(following, lambda r: r["ended"], limit_s=90)
    assert finished["state"] == "finished", finished["cause"]


def test_a_killed_generator_worker_fails_the_run_and_leaves_no_load(api: Api, installed: Installation) -> None:
    run = api.start(120)
    api.wait(run, lambda r: r["elapsed_s"] >= 5)
    os.kill(one(worker(installed, "region-local")), signal.SIGKILL)
    ended = api.wait(run, lambda r: r["ended"], limit_s=60)
    assert ended["state"] == "failed"
    assert "fell silent" in ended["cause"]
    assert not installed.children("stonekettle.engine.process")


def test_a_killed_database_delays_a_run_and_loses_nothing(api: Api, page: Page, installed: Installation) -> None:
    run = api.start(30)
    api.wait(run, lambda r: r["elapsed_s"] >= 6)
    os.kill(postmaster(installed), signal.SIGKILL)
    ended = api.wait(run, lambda r: r["ended"], limit_s=120)
    assert ended["state"] == "finished", ended["cause"]
    result = ended["result"]
    assert result["totals"]["duration_s"] >= 30
    assert rows(page, run) == result["totals"]["requests"]
    plate = api.get(f"/runs/{run}/plate")
    assert all(users is not None for users in plate["users"])


def test_a_database_that_hangs_delays_a_run_and_loses_nothing(api: Api, page: Page, installed: Installation) -> None:
    run = api.start(35)
    api.wait(run, lambda r: r["elapsed_s"] >= 5)
    head = postmaster(installed)
    hung = [head, *(pid for pid, _ in descendants(head))]
    for pid in hung:
        os.kill(pid, signal.SIGSTOP)
    time.sleep(14)
    for pid in hung:
        os.kill(pid, signal.SIGCONT)
    ended = api.wait(run, lambda r: r["ended"], limit_s=120)
    assert ended["state"] == "finished", ended["cause"]
    assert ended["result"]["totals"]["duration_s"] >= 35
    assert rows(page, run) == ended["result"]["totals"]["requests"] > 0


def test_a_frozen_owner_of_a_generator_leaves_no_load(api: Api, installed: Installation) -> None:
    run = api.start(120)
    api.wait(run, lambda r: r["elapsed_s"] >= 5)
    owner = one(worker(installed, "region-local"))
    generator = one(installed.children("stonekettle.engine.process"))
    os.kill(owner, signal.SIGSTOP)
    try:
        frozen = time.monotonic()
        ended = api.wait(run, lambda r: r["ended"], limit_s=60)
        assert "fell silent" in ended["cause"]
        while sockets(generator) and time.monotonic() < frozen + 30:
            time.sleep(0.2)
        # The steps its users were in may still end; nothing new begins.
        assert not sockets(generator)
    finally:
        os.kill(owner, signal.SIGCONT)
    following = api.start(12)
    assert api.wait(following, lambda r: r["ended"], limit_s=90)["state"] == "finished"


def test_stopping_everything_lets_a_run_end_and_says_so(tmp_path: Path, chromium: Browser) -> None:
    tmp_path.chmod(0o755)
    port = free_port()
    with installation(tmp_path, port) as first:
        context = chromium.new_context(base_url=first.url)
        page = context.new_page()
        sign_in(page, first)
        api = Api(page)
        run = api.start(120)
        api.wait(run, lambda r: r["elapsed_s"] >= 4)
        told = subprocess.run(
            [sys.executable, str(ROOT / "kettle"), "stop", "--data", str(tmp_path)], capture_output=True, text=True
        )
        assert "Stopped." in told.stdout, told
        context.close()
    with installation(tmp_path, port) as second:
        context = chromium.new_context(base_url=second.url)
        page = context.new_page()
        sign_in(page, second)
        ended = Api(page).get(f"/runs/{run}")
        assert (ended["state"], ended["cause"]) == ("stopped", "Stopped by ./kettle stop.")
        assert ended["result"]["totals"]["requests"] > 0
        context.close()


def sockets(pid: int) -> int:
    """Connections of a process to anything; the pipes to its owner do not count."""
    try:
        return sum(os.readlink(link).startswith("socket:") for link in Path(f"/proc/{pid}/fd").iterdir())
    except OSError:
        return 0


def worker(installed: Installation, queue: str) -> list[int]:
    """The worker process of a queue."""
    found = []
    for pid in installed.children("procrastinate"):
        words = Path(f"/proc/{pid}/cmdline").read_bytes().split(b"\0")
        if queue.encode() in words:
            found.append(pid)
    return found


def postmaster(installed: Installation) -> int:
    lines = (installed.data / "postgres" / "postmaster.pid").read_text().splitlines()
    return int(lines[0])


def rows(page: Page, run: int) -> int:
    content = page.request.get(f"/api/runs/{run}/requests.parquet").body()
    return int(pq.read_table(io.BytesIO(content)).num_rows)
