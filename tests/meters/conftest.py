"""A metrics server that can be made to misbehave, and builders for readings."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from email.utils import formatdate
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import numpy as np
import pytest

from stonekettle.engine.allowance import LOOPBACK
from stonekettle.meters.exposition import Kind
from stonekettle.meters.samples import Readings, Samples, Source
from stonekettle.meters.scraper import Discover, Scraper
from stonekettle.plan import system_document
from stonekettle.plan.system import System


class MetricsServer(ThreadingHTTPServer):
    """Serves ``page`` with ``status``; the cpu counter grows by half a second per scrape."""

    request_queue_size = 64

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), MetricsHandler)
        self.status, self.page, self.busy = 200, "", 0.0
        self.location = "http://10.0.0.1/metrics"
        self.clock_ahead_s = 0.0
        self.hang_s = 0.0
        self.drip_s = 0.0
        self.headers: list[dict[str, str]] = []
        self.base = f"http://127.0.0.1:{self.server_address[1]}"
        self.url = f"{self.base}/metrics"


class MetricsHandler(BaseHTTPRequestHandler):
    server: MetricsServer

    def do_GET(self) -> None:
        server = self.server
        server.headers.append(dict(self.headers))
        time.sleep(server.hang_s)
        server.busy += 0.5
        page = server.page or (
            f"# TYPE cpu_seconds counter\ncpu_seconds_total {server.busy}\n# TYPE cpu_cores gauge\ncpu_cores 2\n# EOF\n"
        )
        here = 200 if self.path == "/elsewhere" else server.status
        self.send_response_only(here)
        self.send_header("Date", formatdate(time.time() + server.clock_ahead_s, usegmt=True))
        self.send_header("Content-Type", "application/openmetrics-text; version=1.0.0")
        self.send_header("Location", server.location)
        self.end_headers()
        if server.drip_s:
            for byte in page.encode():
                self.wfile.write(bytes([byte]))
                time.sleep(server.drip_s)
        else:
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
def make_system() -> Callable[..., System]:
    """A system of one component ``shop``; keyword arguments are fields of the component."""

    def make(**component: object) -> System:
        return system_document.from_document(
            {"name": "Shop", "base_url": "http://127.0.0.1:9", "components": [{"name": "shop", **component}]}
        )

    return make


@pytest.fixture
def make_scraper(make_system: Callable[..., System]) -> Iterator[Callable[..., Scraper]]:
    made: list[Scraper] = []

    def make(*addresses: str, discover: Discover | None = None, **meter: object) -> Scraper:
        system = make_system(meter={"openmetrics": list(addresses), **meter})
        made.append(Scraper(system, LOOPBACK.refusal, discover))
        return made[-1]

    yield make
    for scraper in made:
        scraper.close()


def samples(
    metric: str,
    values: object,
    kind: Kind = "gauge",
    times: object = None,
    instance: str = "a",
    component: str = "shop",
    **labels: str,
) -> Samples:
    """A series sampled at 0, 1, 2 … s unless ``times`` says otherwise."""
    v = np.asarray(values, dtype=np.float64)
    t = np.arange(v.size, dtype=np.float64) if times is None else np.asarray(times, dtype=np.float64)
    return Samples(Source(component, instance, metric, tuple(sorted(labels.items())), kind), t, v)


def readings(*items: Samples) -> Readings:
    return Readings(items)
