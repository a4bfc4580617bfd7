"""Scrapes every address of a system once a second, each in a thread of a small pool."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent import futures
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

from stonekettle.meters.counts import Count
from stonekettle.meters.endpoint import Endpoint, MeterError, Reading, Refusal, guarded_http
from stonekettle.meters.exposition import MetricHelp, Series
from stonekettle.meters.recognise import mappings
from stonekettle.meters.samples import Batch, Catalogue, Source
from stonekettle.plan.system import Component, Meter, System

TIMEOUT_S = 0.9
CHECK_LIMIT_S = 5.0
OVERDUE_S = 2.5
"""A round still waiting for an answer by then goes on without it."""
MAX_THREADS = 64
MOST_HOSTS = 1_000
"""Connections are kept to so many."""
CLOCK_OFF_S = 2.0
"""A clock this far from ours is worth saying; a date tells it to about a second."""


@dataclass(frozen=True)
class EndpointCheck:
    """What one address reports: ``fault`` says why nothing, else how many metrics and series, the
    resources recognised, the age of its figures (s; 0 without time stamps), its clock's lead (s)."""

    component: str
    instance: str
    url: str
    fault: str | None
    metrics: tuple[str, ...] = ()
    series: int = 0
    resources: tuple[str, ...] = ()
    age_s: float = 0.0
    clock_offset_s: float | None = None
    took_s: float = 0.0


@dataclass(frozen=True)
class _Round:
    """Scrapes begun at the same time (monotonic seconds)."""

    began: float
    asked: Sequence[tuple[Endpoint, Future[Reading]]]


@dataclass(frozen=True)
class EndpointReport:
    """How one address did in a run: scrapes answered and missed, the last fault, its clock's lead,
    and what it says its metrics are."""

    component: str
    instance: str
    answered: int
    missed: int
    last_fault: str
    clock_offset_s: float | None
    helps: Mapping[str, MetricHelp]


Discover = Callable[[], System]
"""Tells a system with the addresses that its instances have now. Raises :class:`PlanError` where that is not known."""


class Scraper:
    """Reads all metrics addresses of a system that are resolved and allowed.

    With ``discover`` each round also asks which those are, for the next one: instances come and go.
    """

    def __init__(self, system: System, refusal: Refusal, discover: Discover | None = None) -> None:
        self._http = guarded_http(refusal, MOST_HOSTS)
        self._endpoints = [Endpoint(*address, self._http) for address in _addresses(system)]
        self._left: list[Endpoint] = []
        self._discover = discover
        self._asking: Future[System] | None = None
        # Threads are begun as they are needed; one more asks for addresses.
        self._pool = ThreadPoolExecutor(MAX_THREADS + 1, thread_name_prefix="meter")
        self._catalogue = Catalogue()
        self._sources: dict[tuple[str, str, Series], Source] = {}
        self._pending: dict[int, _Round] = {}
        self._hanging: dict[Endpoint, Future[Reading]] = {}
        self._zero = time.monotonic()

    def check(self, limit_s: float = CHECK_LIMIT_S) -> tuple[EndpointCheck, ...]:
        """Read every address once, all at the same time, in ``limit_s`` altogether. One that has not told
        its page by then is silent, however it came to that."""
        asked = [(e, self._pool.submit(_check, e, limit_s)) for e in self._endpoints]
        futures.wait([future for _, future in asked], limit_s)
        return tuple(future.result() if future.done() else _late(e, limit_s) for e, future in asked)

    def start(self, zero: float) -> None:
        """From now on times count from ``zero`` (monotonic seconds)."""
        self._zero = zero

    def request(self, scrape: int) -> None:
        """Begin a round of scrapes; its samples are fetched with :meth:`ready`.

        An address that still owes its last answer is not asked again: it cannot pile up.
        """
        self._rediscover()
        asked = [(e, future) for waiting in self._pending.values() for e, future in waiting.asked]
        owing = {e for e, future in (*asked, *self._hanging.items()) if not future.done()}
        free = [e for e in self._endpoints if e not in owing]
        self._pending[scrape] = _Round(time.monotonic(), [(e, self._pool.submit(e.read, TIMEOUT_S)) for e in free])

    def counted(self, scrape: int, counts: Iterable[Count]) -> Batch:
        """Counts asked outside the rounds, as a batch of their own with a number no round has."""
        return self._catalogue.batch(scrape, [(count.source, count.at - self._zero, count.value) for count in counts])

    def ready(self, *, wait: bool = False) -> tuple[Batch, ...]:
        """Batches of every round whose scrapes have all ended, or should have. A missed scrape is a gap."""
        finished = []
        for scrape, one in list(self._pending.items()):
            waiting = [future for _, future in one.asked]
            left = one.began + OVERDUE_S - time.monotonic()
            if wait and left > 0:
                futures.wait(waiting, left)
            if wait or left <= 0 or all(future.done() for future in waiting):
                del self._pending[scrape]
                self._hanging |= {e: future for e, future in one.asked if not future.done()}
                batch = self._catalogue.batch(scrape, self._read(one.asked))
                if batch.chunk:
                    finished.append(batch)
        return tuple(finished)

    def report(self) -> tuple[EndpointReport, ...]:
        return tuple(
            EndpointReport(
                e.component.name, e.instance, e.answered, e.missed, e.last_fault, e.clock_offset_s, e.reader.helps
            )
            for e in (*self._endpoints, *self._left)
        )

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)
        self._http.hang_up()

    def _rediscover(self) -> None:
        """Take the addresses that were told, and ask again. While that is not answered, those before stay."""
        if self._discover is None or (self._asking is not None and not self._asking.done()):
            return
        if self._asking is not None and self._asking.exception() is None:
            self._follow(self._asking.result())
        self._asking = self._pool.submit(self._discover)

    def _follow(self, system: System) -> None:
        """Instances that are new are read from now on, those that left no more."""
        now = {(component.name, url): (component, meter, url) for component, meter, url in _addresses(system)}
        known = {(e.component.name, e.url): e for e in (*self._left, *self._endpoints)}
        self._left = [e for key, e in known.items() if key not in now]
        self._endpoints = [known.get(key) or Endpoint(*told, self._http) for key, told in now.items()]

    def _read(self, asked: Sequence[tuple[Endpoint, Future[Reading]]]) -> Iterable[tuple[Source, float, float]]:
        for endpoint, future in asked:
            if not future.done():
                continue
            try:
                reading = future.result()
            except MeterError:
                continue
            at = reading.at - self._zero
            for series, value in reading.page.values.items():
                yield self._source(endpoint, series), at, value

    def _source(self, endpoint: Endpoint, series: Series) -> Source:
        key = (endpoint.component.name, endpoint.instance, series)
        if key not in self._sources:
            self._sources[key] = Source(key[0], key[1], series.metric, series.labels, series.kind)
        return self._sources[key]


def _addresses(system: System) -> Iterable[tuple[Component, Meter, str]]:
    return ((component, meter, url) for component, meter in system.meters for url in meter.openmetrics or ())


def first_fault(checks: Iterable[EndpointCheck]) -> str | None:
    return next((check.fault for check in checks if check.fault), None)


def _late(endpoint: Endpoint, limit_s: float) -> EndpointCheck:
    where = f"the meter of {endpoint.component.name} at {endpoint.url}"
    fault = f"{where}: it did not tell its page within {limit_s:g} s"
    return EndpointCheck(endpoint.component.name, endpoint.instance, endpoint.url, fault, took_s=limit_s)


def _check(endpoint: Endpoint, limit_s: float) -> EndpointCheck:
    began = time.monotonic()
    try:
        page = endpoint.read(limit_s).page
    except MeterError as error:
        took = time.monotonic() - began
        return EndpointCheck(endpoint.component.name, endpoint.instance, endpoint.url, str(error), took_s=took)
    names = {series.metric for series in page.values}
    offset = endpoint.clock_offset_s
    # Stamps come from its clock: compare them with what that clock says now.
    age = 0.0 if page.newest is None else max(0.0, time.time() + (offset or 0.0) - page.newest)
    return EndpointCheck(
        component=endpoint.component.name,
        instance=endpoint.instance,
        url=endpoint.url,
        fault=None,
        metrics=tuple(sorted(names)),
        series=len(page.values),
        resources=tuple(
            mapping.name
            for mapping in mappings(names, endpoint.component)
            if mapping.metric.removesuffix("_total") in names
        ),
        age_s=age,
        clock_offset_s=offset,
        took_s=time.monotonic() - began,
    )
