"""A plan compiled for speed: requests with everything built that does not vary."""

from __future__ import annotations

from collections.abc import Callable, Generator, Mapping, Sequence
from dataclasses import dataclass
from random import Random

from stonekettle.core.distribution import Deck, Law
from stonekettle.core.run_data import StepInfo
from stonekettle.engine import server_timing
from stonekettle.plan import template
from stonekettle.plan.models import Plan, Step

Fill = Callable[[Mapping[str, str]], str]
_UNSAFE_IN_URL = {ord(" "): "%20", **{c: f"%{c:02X}" for c in range(0x20)}}


@dataclass(frozen=True, slots=True)
class Request:
    """One request of a step. ``url`` and ``body`` are None where they vary from user to user."""

    step: int
    journey: int
    method: str
    url: str | None
    body: bytes | None
    fill_url: Fill
    fill_body: Fill | None
    headers: tuple[str, ...]
    fill_headers: tuple[Fill, ...]
    expect: frozenset[int]
    time_limit_ms: int
    think: Law

    def url_for(self, values: Mapping[str, str]) -> str:
        return self.url if self.url is not None else self.fill_url(values)

    def body_for(self, values: Mapping[str, str]) -> bytes:
        if self.body is not None:
            return self.body
        return self.fill_body(values).encode() if self.fill_body else b""

    def headers_for(self, values: Mapping[str, str]) -> Sequence[str]:
        if not self.fill_headers:
            return self.headers
        return [*self.headers, *(fill(values) for fill in self.fill_headers)]


@dataclass(frozen=True)
class Script:
    """All journeys of a plan, ready to be walked."""

    journeys: tuple[tuple[Request, ...], ...]
    weights: tuple[float, ...]
    rows: tuple[Mapping[str, str], ...]
    steps: tuple[StepInfo, ...]
    timing_names: tuple[str, ...] = ()


def compile_plan(plan: Plan) -> Script:
    """Compile a plan whose addresses are resolved."""
    journeys, number = [], 0
    for j, journey in enumerate(plan.journeys):
        requests = []
        for step in journey.steps:
            requests.append(_compile_step(plan.system.base_url, step, number, j))
            number += 1
        journeys.append(tuple(requests))
    return Script(
        tuple(journeys),
        tuple(journey.weight for journey in plan.journeys),
        _rows(plan),
        step_infos(plan),
        server_timing.names_of(plan),
    )


def step_infos(plan: Plan) -> tuple[StepInfo, ...]:
    """The plan's steps as the core wants them."""
    return tuple(
        StepInfo(
            journey.name,
            step.name,
            step.think.mean,
            step.think.as_law().coefficient_of_variation,
        )
        for journey, step in plan.steps
    )


def _compile_step(base_url: str, step: Step, number: int, journey: int) -> Request:
    url = base_url + step.path
    body = step.body_text
    headers = {"Accept": "*/*", **({"Content-Type": "application/json"} if body is not None else {})}
    headers |= step.headers
    fixed = tuple(f"{k}: {v}" for k, v in headers.items() if not template.variables(v))
    varying = tuple(template.compiled(f"{k}: {v}") for k, v in headers.items() if template.variables(v))
    fill = template.compiled(url)
    varies = bool(template.variables(url))
    return Request(
        step=number,
        journey=journey,
        method=step.method,
        url=None if varies else url.translate(_UNSAFE_IN_URL),
        body=b"" if body is None else None if template.variables(body) else body.encode(),
        fill_url=lambda values: fill(values).translate(_UNSAFE_IN_URL),
        fill_body=template.compiled(body) if body is not None else None,
        headers=(*fixed, "Expect:"),
        fill_headers=varying,
        expect=frozenset(step.expect_status),
        time_limit_ms=max(1, round(step.time_limit * 1000)),
        think=step.think.as_law(),
    )


def _rows(plan: Plan) -> tuple[Mapping[str, str], ...]:
    """Rows of all feeds side by side, as many as the longest feed has; shorter ones start over."""
    longest = max((len(feed.rows) for feed in plan.feeds), default=0)
    return tuple(
        {key: value for feed in plan.feeds for key, value in feed.rows[i % len(feed.rows)].items()}
        for i in range(longest)
    ) or ({},)


class Dealer:
    """Gives each journey begun its journey and its row, shared by all users of a generator."""

    def __init__(self, script: Script, random: Random, share: tuple[int, int] = (0, 1)) -> None:
        self._script = script
        self._deck = Deck(script.weights, random)
        self._row, self._stride = share

    def next(self) -> tuple[tuple[Request, ...], Mapping[str, str]]:
        rows = self._script.rows
        row = rows[self._row % len(rows)]
        self._row += self._stride
        return self._script.journeys[self._deck.draw()], row


def walk(
    dealer: Dealer, thinks: Sequence[Callable[[], float]]
) -> Generator[float | tuple[Request, Mapping[str, str]], bool, None]:
    """A virtual user's life: yields seconds to wait, or a request to send with its values.

    After a request it is sent whether the request succeeded. A failed step ends the journey; the
    user thinks and begins another. The first wait lets users who join together start apart.
    """
    first = True
    while True:
        journey, values = dealer.next()
        if first:
            yield thinks[journey[0].step]()
            first = False
        for request in journey:
            succeeded = yield request, values
            yield thinks[request.step]()
            if not succeeded:
                break
