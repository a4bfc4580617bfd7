"""Scrapes every meter of a plan once a second, each in a thread of a small pool."""

from __future__ import annotations

import threading
import time
from collections import defaultdict
from collections.abc import Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

import urllib3

from stonekettle.meters.exposition import ExpositionError, Metric, parse
from stonekettle.meters.resources import InstanceGauge, Reading, combine, recognise
from stonekettle.plan.models import Plan, ResourceMapping

TIMEOUT_S = 0.9
MAX_PAGE = 8_000_000
MAX_THREADS = 16
ACCEPT = "application/openmetrics-text; version=1.0.0, text/plain; version=0.0.4; q=0.5"


class MeterError(Exception):
    """A meter that does not report; the message says which and why."""


@dataclass(frozen=True)
class MeterCheck:
    """What one endpoint reports: how many metrics, and the resources recognised."""

    component: str
    url: str
    metrics: int
    resources: tuple[str, ...]


class Scraper:
    """Reads all meters of a plan whose addresses are resolved and allowed."""

    def __init__(self, plan: Plan) -> None:
        self._pool = ThreadPoolExecutor(MAX_THREADS, thread_name_prefix="meter")
        self._http = urllib3.PoolManager(maxsize=4, retries=False)
        self._endpoints = [(component.name, url) for component, meter in plan.meters for url in meter.openmetrics]
        self._gauges = {endpoint: InstanceGauge() for endpoint in self._endpoints}
        self._mappings: dict[str, tuple[ResourceMapping, ...]] = {
            component.name: meter.resources for component, meter in plan.meters
        }
        self._lock = threading.Lock()
        self._pending: dict[int, list[Future[tuple[str, dict[str, tuple[float, float, float | None]]] | None]]] = {}

    def check(self) -> tuple[MeterCheck, ...]:
        """Read every endpoint once. Raises :class:`MeterError` naming the first that fails."""
        found = []
        for component, url in self._endpoints:
            metrics = self._read(component, url, timeout=3.0)
            if not self._mappings[component]:
                self._mappings[component] = recognise(metrics)
            names = tuple(mapping.name for mapping in self._mappings[component])
            found.append(MeterCheck(component, url, len(metrics), names))
        return tuple(found)

    def request(self, second: int) -> None:
        """Begin scraping for ``second``; the results are fetched with :meth:`ready`."""
        self._pending[second] = [self._pool.submit(self._scrape, endpoint) for endpoint in self._endpoints]

    def ready(self, *, wait: bool = False) -> dict[int, tuple[Reading, ...]]:
        """Readings of every second whose scrapes have all ended, by second."""
        finished: dict[int, tuple[Reading, ...]] = {}
        for second, futures in list(self._pending.items()):
            if wait or all(future.done() for future in futures):
                del self._pending[second]
                finished[second] = self._combined([future.result() for future in futures])
        return finished

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)
        self._http.clear()

    def _combined(
        self, results: Sequence[tuple[str, dict[str, tuple[float, float, float | None]]] | None]
    ) -> tuple[Reading, ...]:
        by_component: dict[str, list[dict[str, tuple[float, float, float | None]]]] = defaultdict(list)
        for result in results:
            if result is not None:
                by_component[result[0]].append(result[1])
        return tuple(
            reading
            for component, instances in by_component.items()
            for reading in combine(component, self._mappings[component], instances)
        )

    def _scrape(self, endpoint: tuple[str, str]) -> tuple[str, dict[str, tuple[float, float, float | None]]] | None:
        """One endpoint's amounts, or None: a missed scrape is a gap, never a zero."""
        component, url = endpoint
        try:
            metrics = self._read(component, url, TIMEOUT_S)
        except MeterError:
            return None
        at = time.monotonic()
        with self._lock:
            if not self._mappings[component]:
                self._mappings[component] = recognise(metrics)
            return component, self._gauges[endpoint].amounts(at, metrics, self._mappings[component])

    def _read(self, component: str, url: str, timeout: float) -> Mapping[str, Metric]:
        try:
            answer = self._http.request(
                "GET", url, headers={"Accept": ACCEPT}, timeout=timeout, redirect=False, preload_content=False
            )
            try:
                page = answer.read(MAX_PAGE)
            finally:
                answer.release_conn()
        except urllib3.exceptions.HTTPError as error:
            raise MeterError(f"the meter of {component} at {url} does not answer: {error}") from error
        if answer.status != 200:
            raise MeterError(f"the meter of {component} at {url} answers with status {answer.status}")
        try:
            return parse(page.decode("utf-8", "replace"), answer.headers.get("Content-Type", ""))
        except ExpositionError as error:
            raise MeterError(f"the meter of {component} at {url}: {error}") from error
