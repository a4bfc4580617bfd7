"""Processes are killed in the middle of a run: the planner understands, and nothing is lost."""

from __future__ import annotations

import io
import math
import os
import re
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import pyarrow.parquet as pq
import pytest
from playwright.sync_api import Browser, Page, expect

from stonekettle.door.postgres import free_port
from stonekettle.door.supervisor import descendants
from tests.e2e.installation import ROOT, Installation, installation, sign_in
from tests.machine import at_best

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

    def start(self, seconds: int, users: int = 20, more: str = "") -> int:
        text = re.sub("climb: .*\n  - hold: .*", f"hold: {{users: {users}, for: {seconds} s}}", QUICK)
        experiment = self.post("/experiments", source=text.replace("Quick look", f"Kill {time.time():.0f}") + more)
        return int(self.post(f"/experiments/{experiment['id']}/runs")["id"])

    def wait(self, run: int, until: Callable[[dict[str, Any]], bool], limit_s: float = 180) -> dict[str, Any]:
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


def test_others_take_over_the_people_of_a_killed_generator(api: Api, page: Page, installed: Installation) -> None:
    def lose_one() -> tuple[int, list[float]]:
        run = api.start(36)
        killed_s = api.wait(run, lambda r: r["elapsed_s"] >= 6)["elapsed_s"]
        os.kill(one(installed.children("stonekettle.engine.process")), signal.SIGKILL)
        ended = api.wait(run, lambda r: r["ended"])
        assert ended["state"] == "finished", ended["cause"]
        story = [note["text"] for note in ended["notes"]]
        assert "it ended with code -9. Others take over its people." in story[0]
        assert story[1].endswith("joined and takes its share.")
        assert rows(page, run) == ended["result"]["totals"]["requests"] > 0
        users = api.get(f"/runs/{run}/plate")["users"]
        # A busy machine notices the loss later.
        later = range(killed_s + 3, len(users) - 8)
        assert any(users[t : t + 8] == pytest.approx([20] * 8, abs=0.2) for t in later), users
        return run, [there or 0 for there in users]

    # Nobody is ever there twice, unless a busy machine lets some be long about the step in which others come for them.
    run, users = at_best(lose_one, lambda found: max(found[1]) < 20.2)
    assert max(users) < 20.2
    page.goto(f"{installed.url}/runs/{run}")
    page.get_by_text("History of this run").click()
    expect(page.get_by_test_id("notices")).to_contain_text("Others take over its people.")
    expect(page.get_by_text("it ended with code -9").last).to_be_visible()


def test_a_run_that_loses_all_its_generators_goes_on_with_others(api: Api, page: Page, installed: Installation) -> None:
    def lose_all() -> tuple[dict[str, Any], list[float | None]]:
        run = api.start(30)
        lost_s = int(api.wait(run, lambda r: r["elapsed_s"] >= 5)["elapsed_s"])
        for pid in installed.children("stonekettle.engine.process"):
            os.kill(pid, signal.SIGKILL)
        ended = api.wait(run, lambda r: r["ended"])
        story = " ".join(note["text"] for note in ended["notes"])
        assert "Nobody is left for everyone until another comes." in story
        assert rows(page, run) == ended["result"]["totals"]["requests"] > 0
        if ended["state"] != "finished":
            assert ended["cause"].endswith("No other came before the end."), ended["cause"]
        else:
            assert "joined and takes its share." in story
        return ended, api.get(f"/runs/{run}/plate")["users"][lost_s + 2 :]

    def went_on(found: tuple[dict[str, Any], list[float | None]]) -> bool:
        ended, users = found
        return ended["state"] == "finished" and users[-4:-1] == pytest.approx([20] * 3, abs=0.2)

    # A machine that stands still until the run is over lets nobody come in time.
    found = at_best(lose_all, went_on)
    assert went_on(found), found


def test_a_run_whose_plan_says_so_ends_when_it_loses_a_generator(api: Api, page: Page, installed: Installation) -> None:
    run = api.start(60, more="\ngenerators: {when_lost: end}\n")
    api.wait(run, lambda r: r["elapsed_s"] >= 14)
    os.kill(one(installed.children("stonekettle.engine.process")), signal.SIGKILL)
    ended = api.wait(run, lambda r: r["ended"])
    assert ended["state"] == "failed"
    assert "was lost at" in ended["cause"]
    assert ended["result"]["totals"]["duration_s"] >= 14
    assert rows(page, run) == ended["result"]["totals"]["requests"] > 0
    page.goto(f"{installed.url}/runs/{run}")
    expect(page.get_by_test_id("ending")).to_contain_text("was lost at")
    expect(page.get_by_test_id("plate")).to_be_visible()


def test_a_run_ends_once_a_resource_is_as_busy_as_its_plan_says(api: Api) -> None:
    rule = "{resource: gateway.cpu, utilisation: 0.1 %, for: 3 s}"
    ended = api.wait(api.start(90, more=f"\nstop_when:\n  - {rule}\n"), lambda r: r["ended"], limit_s=60)
    assert ended["state"] == "stopped", ended["cause"]
    assert re.search(r"the plan: gateway\.cpu was \S+ % busy over 3 s, and more than 0\.1 % ends", ended["cause"])
    assert 3 <= ended["result"]["totals"]["duration_s"] < 30


def test_a_run_is_steered_from_the_command_line_and_follows_within_a_second(
    api: Api, page: Page, installed: Installation
) -> None:
    run = api.start(60)
    api.wait(run, lambda r: r["elapsed_s"] >= 5)
    said = [steered(installed, run, *words) for words in (["raise", "50", "--why", "what breaks?"], ["pause"])]
    assert said == ["Raised to 50.", "Paused: users finish their step and wait."]
    time.sleep(3)
    assert steered(installed, run, "resume") == "Goes on where it was held."
    assert "does not raise it" in steered(installed, run, "raise", "10")
    assert steered(installed, run, "let go") == "Everybody is let go."
    ended = api.wait(run, lambda r: r["ended"])
    assert ended["state"] == "finished"
    assert ended["notes"][0]["text"] == "Raised to 50. what breaks?"
    wishes = [wish for wish in api.get(f"/runs/{run}/wishes") if wish["accepted"]]
    asked = [datetime.fromisoformat(wish["asked_at"]).timestamp() - ended["begun_at"] for wish in wishes]
    after = [note["at_s"] - at_s for at_s, note in zip(asked, ended["notes"], strict=True)]
    # They hold from half a second ahead; a busy machine makes some of them later, and none earlier.
    assert 0.4 < min(after) < 1.5
    assert max(after) < 10
    plate = api.get(f"/runs/{run}/plate")
    paused = math.ceil(ended["notes"][1]["at_s"]) + 1
    assert plate["users"][paused] == pytest.approx(50, abs=0.5)
    assert plate["throughput"][paused + 1] == 0
    page.goto(f"{installed.url}/runs/{run}")
    expect(page.get_by_test_id("plate")).to_be_visible()
    page.get_by_text("History of this run").click()
    expect(page.get_by_text("Raised to 50. what breaks?")).to_be_visible()


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


def test_a_killed_generator_worker_is_replaced_and_leaves_no_load(api: Api, installed: Installation) -> None:
    run = api.start(40)
    api.wait(run, at_work)
    os.kill(owner(installed), signal.SIGKILL)
    ended = api.wait(run, lambda r: r["ended"], limit_s=90)
    assert ended["state"] == "finished", ended["cause"]
    assert any("no sign of life for 4 s" in note["text"] for note in ended["notes"]), ended["notes"]
    assert api.get(f"/runs/{run}/plate")["users"][38] == pytest.approx(20, abs=0.2)
    give_up = time.monotonic() + 20
    while installed.children("stonekettle.engine.process") and time.monotonic() < give_up:
        time.sleep(0.2)
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


def test_a_frozen_owner_of_a_generator_leaves_no_load(api: Api, page: Page, installed: Installation) -> None:
    run = api.start(40)
    api.wait(run, at_work)
    frozen_owner = owner(installed)
    generator = one(generators_of(frozen_owner))
    os.kill(frozen_owner, signal.SIGSTOP)
    try:
        frozen = time.monotonic()
        lost = api.wait(run, lambda r: bool(r["notes"]), limit_s=30)
        assert "no sign of life for 4 s. Others take over its people." in lost["notes"][0]["text"]
        while sockets(generator) and time.monotonic() < frozen + 30:
            time.sleep(0.2)
        assert not sockets(generator)
    finally:
        os.kill(frozen_owner, signal.SIGCONT)
    ended = api.wait(run, lambda r: r["ended"], limit_s=90)
    assert ended["state"] == "finished", ended["cause"]
    # What it had measured until then arrived once it was back.
    whole = api.wait(run, lambda r: rows(page, run) == r["result"]["totals"]["requests"], limit_s=30)
    assert {g["state"] for g in whole["generators"]} == {"lost", "finished"}
    following = api.start(12)
    assert api.wait(following, lambda r: r["ended"], limit_s=90)["state"] == "finished"


@pytest.fixture
def folder() -> Iterator[Path]:
    """Of its own, where the database's user may enter, so that all of it goes with the test."""
    with tempfile.TemporaryDirectory(prefix="kettle-e2e-", dir="/tmp", ignore_cleanup_errors=True) as made:
        Path(made).chmod(0o755)
        yield Path(made)


def test_stopping_everything_lets_a_run_end_and_says_so(folder: Path, chromium: Browser) -> None:
    port = free_port()
    with installation(folder, port, demo=False) as first:
        context = chromium.new_context(base_url=first.url)
        page = context.new_page()
        sign_in(page, first)
        api = Api(page)
        run = api.start(120)
        api.wait(run, lambda r: r["elapsed_s"] >= 4)
        told = subprocess.run(
            [sys.executable, str(ROOT / "kettle"), "stop", "--data", str(folder)], capture_output=True, text=True
        )
        assert "Stopped." in told.stdout, told
        context.close()
    with installation(folder, port, demo=False) as second:
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


def steered(installed: Installation, run: int, *words: str) -> str:
    """What ./kettle steer says."""
    command = [sys.executable, str(ROOT / "kettle"), "steer", str(run), *words, "--data", str(installed.data)]
    done = subprocess.run(command, capture_output=True, text=True)
    return (done.stdout or done.stderr).strip()


def generators_of(owner: int) -> list[int]:
    """The processes that make load for a worker."""
    commands = {pid: Path(f"/proc/{pid}/cmdline").read_bytes() for pid, _ in descendants(owner)}
    return [pid for pid, command in commands.items() if b"stonekettle.engine.process" in command]


def worker(installed: Installation, queue: str) -> list[int]:
    """The worker process of a queue."""
    found = []
    for pid in installed.children("procrastinate"):
        words = Path(f"/proc/{pid}/cmdline").read_bytes().split(b"\0")
        if queue.encode() in words:
            found.append(pid)
    return found


def at_work(run: dict[str, Any]) -> bool:
    """Whether load is under way and every generator takes part: one that is late joins a run that has begun."""
    return bool(run["elapsed_s"] >= 5 and all(found["state"] == "ready" for found in run["generators"]))


def owner(installed: Installation) -> int:
    """A worker that owns a generator now."""
    return next(pid for pid in worker(installed, "region-local") if generators_of(pid))


def postmaster(installed: Installation) -> int:
    lines = (installed.data / "postgres" / "postmaster.pid").read_text().splitlines()
    return int(lines[0])


def rows(page: Page, run: int) -> int:
    """The rows of the exported requests."""
    api = Api(page)
    job = api.post(f"/runs/{run}/exports", what="requests.parquet")["job"]
    give_up = time.monotonic() + 60
    while (state := api.get(f"/jobs/{job}")["state"]) != "done":
        assert state in ("waiting", "working")
        assert time.monotonic() < give_up
        time.sleep(0.2)
    content = page.request.get(f"/api/runs/{run}/requests.parquet").body()
    return int(pq.read_table(io.BytesIO(content)).num_rows)
