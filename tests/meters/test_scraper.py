"""Scraping real endpoints, healthy and not."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from stonekettle.meters.scraper import MeterError, Scraper
from stonekettle.plan.models import Plan


class MetricsServer(ThreadingHTTPServer):
    """Serves ``page`` with ``status``; the cpu counter grows by half a second per scrape."""

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), MetricsHandler)
        self.status, self.page, self.busy = 200, "", 0.0
        self.url = f"http://127.0.0.1:{self.server_address[1]}/metrics"


class MetricsHandler(BaseHTTPRequestHandler):
    server: MetricsServer

    def do_GET(self) -> None:
        self.server.busy += 0.5
        page = self.server.page or (
            f"# TYPE cpu_seconds counter\ncpu_seconds_total {self.server.busy}\n"
            "# TYPE cpu_cores gauge\ncpu_cores 2\n# EOF\n"
        )
        self.send_response(self.server.status)
        self.send_header("Content-Type", "application/openmetrics-text; version=1.0.0")
        self.send_header("Location", "http://10.0.0.1/metrics")
        self.end_headers()
        self.wfile.write(page.encode())

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def metrics() -> Iterator[MetricsServer]:
    server = MetricsServer()
    threading.Thread(target=server.serve_forever, name="metrics", daemon=True).start()
    yield server
    server.shutdown()
    server.server_close()


@pytest.fixture
def scraper(metrics: MetricsServer, make_plan: Callable[..., Plan]) -> Iterator[Scraper]:
    found = Scraper(make_plan(metrics=metrics.url))
    yield found
    found.close()


def test_a_check_tells_what_was_found(scraper: Scraper, metrics: MetricsServer) -> None:
    (check,) = scraper.check()
    assert check.url == metrics.url
    assert check.metrics == 2
    assert check.resources == ("cpu",)


def test_each_second_gets_its_readings(scraper: Scraper) -> None:
    scraper.check()
    found = {}
    for second in (-1, 0, 1):
        scraper.request(second)
        found.update(scraper.ready(wait=True))
    assert found[-1] == ()
    assert found[0][0].key == "shop.cpu"
    assert found[0][0].servers == 2.0


def test_an_outage_is_a_gap_and_readings_come_back(scraper: Scraper, metrics: MetricsServer) -> None:
    scraper.request(0)
    scraper.ready(wait=True)
    metrics.status = 500
    scraper.request(1)
    assert scraper.ready(wait=True)[1] == ()
    metrics.status = 200
    scraper.request(2)
    assert scraper.ready(wait=True)[2][0].key == "shop.cpu"


@pytest.mark.parametrize(
    ("status", "page", "part"),
    [(503, "", "status 503"), (302, "", "status 302"), (200, "<html>", "not a metrics page")],
)
def test_a_meter_that_does_not_report_is_named(
    scraper: Scraper, metrics: MetricsServer, status: int, page: str, part: str
) -> None:
    metrics.status, metrics.page = status, page
    with pytest.raises(MeterError, match=f"shop.*{part}"):
        scraper.check()


def test_nobody_listening_is_told(make_plan: Callable[..., Plan]) -> None:
    scraper = Scraper(make_plan(metrics="http://127.0.0.1:9/metrics"))
    with pytest.raises(MeterError, match="does not answer"):
        scraper.check()
    scraper.close()
