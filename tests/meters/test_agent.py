"""The host agent tells what the operating system tells."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import psutil
import pytest
import urllib3

from stonekettle.meters.agent import Agent, token_from
from stonekettle.meters.exposition import Page, parse
from stonekettle.meters.scraper import Scraper


@pytest.fixture
def serve() -> Iterator[Callable[..., Agent]]:
    running: list[Agent] = []

    def start(token: str | None = None) -> Agent:
        agent = Agent("127.0.0.1", 0, token)
        threading.Thread(target=agent.serve_forever, daemon=True).start()
        running.append(agent)
        return agent

    yield start
    for agent in running:
        agent.shutdown()
        agent.server_close()


def page_of(agent: Agent) -> Page:
    answer = urllib3.request("GET", agent.url)
    return parse(answer.data.decode(), answer.headers["Content-Type"])


def total(page: Page, metric: str) -> float:
    found = [value for series, value in page.values.items() if series.metric == metric]
    assert found, metric
    return sum(found)


def test_everything_a_machine_has_is_told(serve: Callable[..., Agent]) -> None:
    page = page_of(serve())
    assert total(page, "host_cpu_cores") == psutil.cpu_count()
    assert total(page, "host_memory_limit_bytes") == psutil.virtual_memory().total
    assert total(page, "host_memory_used_bytes") > 0
    assert total(page, "host_run_queue_length") >= 1
    assert total(page, "host_processes") >= 2
    names = {series.metric for series in page.values}
    assert {"host_swap_used_bytes", "host_cpu_mode_seconds", "host_process_cpu_seconds"} <= names
    # A sandbox may have neither disks nor interfaces of its own.
    assert ("host_disk_reads" in names) == bool(psutil.disk_io_counters(perdisk=True))


def test_busy_cores_agree_with_the_operating_system(serve: Callable[..., Agent]) -> None:
    agent = serve()

    def busy_by_the_system() -> tuple[float, float]:
        numbers = list(map(int, Path("/proc/stat").read_text().split("\n")[0].split()[1:9]))
        return sum(numbers) - numbers[3] - numbers[4], sum(numbers)

    first, before = page_of(agent), busy_by_the_system()
    until = time.monotonic() + 1.5
    while time.monotonic() < until:
        sum(range(1000))
    second, after = page_of(agent), busy_by_the_system()
    told = total(second, "host_cpu_busy_seconds") - total(first, "host_cpu_busy_seconds")
    all_modes = total(second, "host_cpu_mode_seconds") - total(first, "host_cpu_mode_seconds")
    expected = (after[0] - before[0]) / (after[1] - before[1])
    assert told / all_modes == pytest.approx(expected, abs=0.06)  # both are read in steps of 10 ms
    assert told > 1.0


def test_the_busiest_processes_are_named(serve: Callable[..., Agent]) -> None:
    agent = serve()
    page_of(agent)
    until = time.monotonic() + 0.5
    while time.monotonic() < until:
        sum(range(1000))
    mine = str(psutil.Process().pid)
    busiest = {dict(s.labels)["pid"] for s in page_of(agent).values if s.metric == "host_process_cpu_seconds"}
    assert mine in busiest


def test_its_resources_are_recognised(serve: Callable[..., Agent], make_scraper: Callable[..., Scraper]) -> None:
    (check,) = make_scraper(serve().url).check()
    assert check.fault is None
    assert {"cpu", "memory"} <= set(check.resources)


def test_a_token_is_asked_for(serve: Callable[..., Agent], make_scraper: Callable[..., Scraper]) -> None:
    agent = serve("let me in")
    (refused,) = make_scraper(agent.url).check()
    assert refused.fault is not None
    assert "credentials" in refused.fault
    (let_in,) = make_scraper(agent.url, credentials={"bearer": "let me in"}).check()
    assert let_in.fault is None


def test_it_tells_nothing_else(serve: Callable[..., Agent]) -> None:
    agent = serve()
    base = agent.url.removesuffix("/metrics")
    assert urllib3.request("GET", f"{base}/etc/passwd").status == 404
    assert urllib3.request("POST", agent.url).status == 501


def test_the_token_comes_from_a_file_or_the_environment(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert token_from(None) is None
    monkeypatch.setenv("KETTLE_AGENT_TOKEN", "from outside")
    assert token_from(None) == "from outside"
    file = tmp_path / "token"
    file.write_text("secret\n")
    assert token_from(file) == "secret"
    file.write_text("\n")
    with pytest.raises(ValueError, match="empty"):
        token_from(file)
