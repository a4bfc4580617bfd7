"""Builders shared by the tests: one for each kind of object they need."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import pytest
from hypothesis import settings

from stonekettle.core.distribution import Law
from stonekettle.core.histogram import HistogramSeries
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.run_data import Cell, Reasons, ResourceSeries, RunData
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import TwinJourney, TwinStep
from tests.ops import Ops

# How long an example takes says nothing on a machine that others use.
settings.register_profile("patient", deadline=None)
settings.load_profile("patient")

ROUTE = "GET /"
FIRST = ("e2e/test_failures", "truth/test_real_sockets", "e2e/", "cli/", "truth/", "server/test_malformed")
"""What takes long begins first; files with one installation for all of them follow each other."""


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    def rank(item: pytest.Item) -> int:
        return next((place for place, part in enumerate(FIRST) if f"tests/{part}" in item.nodeid), len(FIRST))

    items.sort(key=rank)


def one_server_system(service_ms: float = 10.0, servers: int = 1, **component: float | None) -> PracticeConfig:
    """A single component ``shop`` that every request visits once."""
    return PracticeConfig(
        (Component("shop", cpus=servers, **component),),  # type: ignore[arg-type]
        (Route("GET", "/", (Visit("shop", service_ms),)),),
    )


def visits(think_s: float) -> list[TwinJourney]:
    """One journey of one step with exponential think time."""
    return [TwinJourney("visit", 1.0, (TwinStep(ROUTE, Law("exponential", think_s)),))]


def climb(first: int, last: int, by: int, hold_s: float = 30.0) -> LoadProfile:
    return LoadProfile((Segment.climb(first, last, by, hold_s),))


def steady_run(
    users: float = 100.0,
    seconds: int = 60,
    rate: int = 50,
    response_s: float = 0.1,
    think_s: float = 1.9,
    resources: tuple[ResourceSeries, ...] = (),
) -> RunData:
    """A run in which every second is alike and Little's law holds exactly."""
    each = np.full(seconds, rate, dtype=np.int64)[:, None]
    second = np.repeat(np.arange(seconds), rate)
    histograms = HistogramSeries.from_observations(
        second, np.zeros_like(second), np.full(second.size, round(response_s * 1e6))
    )
    return RunData(
        cells=(Cell("visit", "page", think_s),),
        planned_users=np.full(seconds, users),
        users=np.full(seconds, users),
        in_flight=np.full(seconds, rate * response_s),
        overdue=np.zeros(seconds),
        blind=np.zeros(seconds),
        start_gap_s=np.full(seconds, 2.0 / rate),
        reasons=Reasons.none(seconds, cpu=0.1),
        stalls=np.zeros((0, 2)),
        requests=each.copy(),
        started=each,
        completed=each.copy(),
        errors=np.zeros_like(each),
        response_sum_s=each * response_s,
        blind_sum_s=np.zeros(each.shape),
        histograms=histograms,
        low_histograms=histograms,
        resources=resources,
    )


PLAN_TEXT = """
name: Small shop
system:
  name: Shop
  base_url: {base}
  components:
    - {{name: shop, meter: {{openmetrics: "{metrics}"}}}}
journeys:
  - name: visit
    steps:
      - {{name: page, request: GET /, think: exponential {think}}}
load:
  - hold: {{users: {users}, for: {hold}}}
objectives:
  - {{step: page, p95: 1 s}}
"""


@pytest.fixture
def plan_text() -> Callable[..., str]:
    """Text of a small plan; keyword arguments replace its parts."""

    def build(**changes: object) -> str:
        parts: dict[str, object] = {
            "base": "http://127.0.0.1:9",
            "metrics": "http://127.0.0.1:9/metrics",
            "think": "100 ms",
            "users": 5,
            "hold": "2 s",
        }
        return PLAN_TEXT.format(**{**parts, **changes})

    return build


@pytest.fixture
def make_plan(plan_text: Callable[..., str]) -> Callable[..., Plan]:
    """A small checked plan; keyword arguments replace parts of its text."""
    return lambda **changes: document.read(plan_text(**changes))


@pytest.fixture
def ops() -> Iterator[Ops]:
    made = Ops()
    yield made
    made.close()
