"""Quillport over real sockets."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
import urllib3

from stonekettle.cli.run import PracticeProcess
from stonekettle.meters.exposition import parse
from stonekettle.practice.shapes import Pauses
from stonekettle.practice.station import Pool, Servers


class Quillport:
    """A running practice system."""

    def __init__(self, control: str) -> None:
        self.control = control
        self.http = urllib3.PoolManager(maxsize=40, retries=False)
        self.directory = self.look_up()

    def look_up(self) -> dict[str, list[str]]:
        """Where every instance is now."""
        found: dict[str, list[str]] = self.http.request("GET", f"{self.control}/directory").json()
        return found

    def get(self, path: str, method: str = "GET") -> urllib3.BaseHTTPResponse:
        return self.http.request(method, self.directory["gateway"][0] + path)

    def metrics(self, component: str, instance: int = 0) -> dict[str, float]:
        answer = self.http.request("GET", self.directory[component][instance] + "/metrics")
        found = parse(answer.data.decode(), answer.headers["Content-Type"])
        return {series.metric.removeprefix("quillport_"): value for series, value in found.values.items()}


@pytest.fixture
def quillport(tmp_path: Path) -> Iterator[Callable[[str], Quillport]]:
    opened: list[PracticeProcess] = []

    def start(config: str = "") -> Quillport:
        path = tmp_path / "practice.yaml"
        path.write_text(config)
        process = PracticeProcess(path)
        opened.append(process.__enter__())
        return Quillport(process.control_url)

    yield start
    for process in opened:
        process.__exit__(None)


def test_the_public_api_answers_with_the_time_spent_in_each_component(
    quillport: Callable[[str], Quillport],
) -> None:
    answer = quillport("").get("/departures")
    assert answer.status == 200
    assert [part.split(";")[0] for part in answer.headers["Server-Timing"].split(", ")] == ["gateway", "stopboard"]


def test_every_component_has_its_own_metrics(quillport: Callable[[str], Quillport]) -> None:
    system = quillport("")
    assert set(system.directory) == {"gateway", "planner", "stopboard", "ledger", "cloud"}
    assert system.get("/tickets", "POST").status == 201
    assert system.metrics("ledger")["cpu_cores"] == 4
    assert system.metrics("ledger")["requests"] == 1
    assert system.metrics("ledger")["cpu_seconds"] > 0.02
    assert system.metrics("planner")["cpu_seconds"] == 0


def test_instances_have_a_metrics_page_each(quillport: Callable[[str], Quillport]) -> None:
    system = quillport("changes: {ledger: {instances: 3}}")
    assert len(system.directory["ledger"]) == 3
    assert system.metrics("ledger", 2)["cpu_cores"] == 4


def test_overload_is_refused_when_asked(quillport: Callable[[str], Quillport]) -> None:
    system = quillport("changes: {ledger: {refuse_over: 2}}")
    with ThreadPoolExecutor(12) as pool:
        answers = [f.result().status for f in [pool.submit(system.get, "/tickets", "POST") for _ in range(12)]]
    assert answers.count(503) >= 6
    assert answers.count(201) >= 2
    assert system.metrics("ledger")["requests_refused"] == answers.count(503)


def test_answers_are_counted(quillport: Callable[[str], Quillport]) -> None:
    system = quillport("")
    for _ in range(3):
        system.get("/")
    counted = system.http.request("GET", f"{system.control}/answered").json()
    assert counted == {"total": 3, "by_route": {"GET /": 3}}


def test_servers_queue_first_come_first_served() -> None:
    servers = Servers(2, Pauses(0.0, 0.0))
    ends = [servers.serve(0.0, s) for s in (1.0, 3.0, 1.0, 1.0)]
    assert ends == [1.0, 3.0, 2.0, 3.0]
    assert servers.busy_seconds(1.5) == pytest.approx(3.0)
    assert servers.busy_seconds(10.0) == pytest.approx(6.0)


def test_a_pool_admits_in_order() -> None:
    async def play() -> list[str]:
        pool, order = Pool(1), []

        async def use(name: str) -> None:
            at = await pool.enter(time.monotonic())
            order.append(name)
            await asyncio.sleep(0.01)
            pool.leave(at + 0.01)

        await asyncio.gather(*(use(name) for name in "abc"))
        assert pool.in_use == 0
        return order

    assert asyncio.run(play()) == ["a", "b", "c"]


def test_identical_data_flatter_a_component_that_remembers(quillport: Callable[[str], Quillport]) -> None:
    system = quillport("changes: {planner: {remembers: 50}}")

    def planner_ms(path: str) -> float:
        timing = system.get(path).headers["Server-Timing"]
        return next(float(part.split("dur=")[1]) for part in timing.split(", ") if part.startswith("planner"))

    planner_ms("/trips?from=Quay")
    same = [planner_ms("/trips?from=Quay") for _ in range(12)]
    different = [planner_ms(f"/trips?from={number}") for number in range(12)]
    assert sum(same) < 0.5 * sum(different)
    assert system.metrics("planner")["cache_hits"] == 12
