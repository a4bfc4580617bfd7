"""A plan compiled for speed: requests with everything built that does not vary."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TypedDict
from urllib.parse import urlsplit

import numpy as np

from stonekettle.core.distribution import Law
from stonekettle.core.run_data import Cell
from stonekettle.core.types import IntArray
from stonekettle.engine import server_timing
from stonekettle.engine.examine import Examiner
from stonekettle.engine.seconds import Layout
from stonekettle.plan import document, secrecy, template
from stonekettle.plan.feed import Feed
from stonekettle.plan.journey import Journey, Session
from stonekettle.plan.load import ArrivalGroup, Fixed, UserGroup
from stonekettle.plan.models import Plan
from stonekettle.plan.secrecy import OWN, origin_of
from stonekettle.plan.step import Step

Fill = Callable[[Mapping[str, str]], str]
_UNSAFE_IN_URL = {ord(" "): "%20", **{c: f"%{c:02X}" for c in range(0x20)}}
NO_CELL = -1
DEFAULT_AGENT = "stone-kettle"

LEAST_TRACED = 100
TRACED_PEOPLE = 60
"""Traces are asked for as many as so many people make, at least one visit in a hundred."""


@dataclass(frozen=True, slots=True)
class Request:
    """One request of a step. ``url`` and ``body`` are None where they vary from user to user.

    ``examiner`` is None where nothing of the response is looked at; ``accompanying`` are fetched in
    parallel once this one is answered. ``first`` begins a journey. ``traced``: it names its trace. ``confined_to``
    is the only port it may go to, redirects included: it carries secrets that were given for there.
    """

    step: int
    journey: int
    method: str
    url: str | None
    body: bytes | None
    fill_url: Fill
    fill_body: Fill | None
    headers: tuple[bytes, ...]
    fill_cookie: Fill | None
    fill_headers: tuple[Fill, ...]
    expect: frozenset[int]
    time_limit_ms: int
    think: Law
    redirects: bool = False
    traced: bool = True
    confined_to: int | None = None
    examiner: Examiner | None = None
    accompanying: tuple[Request, ...] = ()
    session: Session = field(default_factory=Session)
    first: bool = False
    last: bool = False

    @property
    def has_body(self) -> bool:
        return self.method in ("POST", "PUT", "PATCH") or self.body != b""

    def url_for(self, values: Mapping[str, str]) -> str:
        return self.url if self.url is not None else self.fill_url(values)

    def body_for(self, values: Mapping[str, str]) -> bytes:
        if self.body is not None:
            return self.body
        return self.fill_body(values).encode("utf-8", "replace") if self.fill_body else b""

    def headers_for(self, values: Mapping[str, str]) -> Sequence[bytes]:
        """Header lines as bytes: names and values may be in any language."""
        if not self.fill_headers:
            return self.headers
        return [*self.headers, *(fill(values).encode("utf-8", "replace") for fill in self.fill_headers)]


class _Address(TypedDict):
    url: str | None
    fill_url: Fill


@dataclass(frozen=True)
class GroupTerms:
    """How a group's people come, behave and leave. ``weights`` and ``fixed`` (of the first seats) choose journeys;
    ``each`` is how many a person does, None: no end. Where connections are kept, who comes takes over those of who
    left. ``stay_s``: another takes the place of who has been there so long; 0: nobody. ``down`` and ``up`` limit a
    transfer, in bytes per second; 0: no limit; ``round_trip_s`` is added to each of its round trips."""

    name: str
    weights: tuple[float, ...]
    fixed: tuple[int, ...] = ()
    each: int | None = None
    arrives: bool = False
    evenly: bool = False
    at_most: int = 0
    finishes_journey: bool = False
    region: str = ""
    down: int = 0
    up: int = 0
    round_trip_s: float = 0.0
    keeps_connections: bool = False
    stay_s: float = 0.0

    @classmethod
    def of(cls, plan: Plan, group: UserGroup | ArrivalGroup) -> GroupTerms:
        names = [journey.name for journey in plan.journeys]
        counts = [(names.index(name), part.users) for name, part in group.mix.items() if isinstance(part, Fixed)]
        arriving = group if isinstance(group, ArrivalGroup) else None
        return cls(
            name=group.name,
            weights=plan.weights_of(group),
            fixed=tuple(journey for journey, users in counts for _ in range(users)),
            each=group.journeys_each,
            arrives=group.arrives,
            evenly=arriving is not None and arriving.law == "even",
            at_most=arriving.room if arriving else 0,
            finishes_journey=group.leave == "after the journey",
            region=group.region,
            down=round((group.network.down or 0) / 8),
            up=round((group.network.up or 0) / 8),
            round_trip_s=group.network.round_trip or 0.0,
            keeps_connections=arriving is not None and arriving.connections == "kept",
            stay_s=(group.stay_s or 0.0) if isinstance(group, UserGroup) else 0.0,
        )


@dataclass(frozen=True)
class Script:
    """All journeys of a plan and its groups, ready to be walked. ``step_names`` are preceded by their journeys';
    ``numbers`` are those of the cells (:func:`cell_numbers`), ``secrets`` those that stand in the plan; one visit in
    ``traced_each`` asks for its traces to be kept."""

    journeys: tuple[tuple[Request, ...], ...]
    groups: tuple[GroupTerms, ...]
    feeds: tuple[Feed, ...]
    step_names: tuple[tuple[str, str], ...]
    cells: tuple[Cell, ...]
    numbers: IntArray
    samples: tuple[Mapping[str, str], ...]
    secrets: frozenset[str] = frozenset()
    timing_names: tuple[str, ...] = ()
    traced_each: int = LEAST_TRACED

    def row(self, number: int) -> dict[str, str]:
        """Row ``number`` of every feed side by side, each round and round."""
        return {key: value for feed in self.feeds for key, value in feed.rows.row(number).items()}


def compile_plan(plan: Plan) -> Script:
    """Compile a plan whose addresses are resolved, the rows of its files at hand."""
    for feed in plan.feeds:
        _ = feed.rows  # read now: the load must not wait for it later
    journeys, number = [], 0
    for j, journey in enumerate(plan.journeys):
        requests = []
        for place, step in enumerate(journey.active):
            ends = place == 0, place == len(journey.active) - 1
            requests.append(_compile_step(plan, journey, step, number, j, ends))
            number += 1
        journeys.append(tuple(requests))
    return Script(
        tuple(journeys),
        tuple(GroupTerms.of(plan, group) for group in plan.people),
        plan.feeds,
        tuple((journey.name, step.name) for journey, step in plan.steps),
        cells_of(plan),
        cell_numbers(plan),
        tuple(journey.sample for journey in plan.journeys),
        frozenset(secrecy.texts_in(document.to_document(plan))),
        server_timing.names_of(plan),
        traced_each(plan),
    )


def traced_each(plan: Plan) -> int:
    """One visit in so many asks for its traces to be kept: enough to tell of each level, and little to carry for what
    is measured."""
    return max(1, min(LEAST_TRACED, most_users(plan) // TRACED_PEOPLE))


def most_users(plan: Plan) -> int:
    """So many users there may be at a time as planned."""
    return sum(group.room if isinstance(group, ArrivalGroup) else round(group.profile.peak) for group in plan.people)


def cells_of(plan: Plan) -> tuple[Cell, ...]:
    """What each group does, as the core counts it: step by step, in the order of the groups."""
    found = []
    for step, group in _done_by(plan):
        journey, what = plan.steps[step]
        think = plan.think_of(what)
        variation = think.as_law().coefficient_of_variation
        found.append(Cell(journey.name, what.name, think.mean, variation, plan.people[group].name))
    return tuple(found)


def layout_of(plan: Plan) -> Layout:
    """Where the figures of a run of this plan stand in its rows."""
    people = plan.people
    return Layout(tuple(g.name for g in people), cells_of(plan), tuple(g.region for g in people))


def cell_numbers(plan: Plan) -> IntArray:
    """The number of each group's cell of each step, shape (groups, steps); NO_CELL where it never does it."""
    numbers = np.full((len(plan.people), len(plan.steps)), NO_CELL, dtype=np.int64)
    for number, (step, group) in enumerate(_done_by(plan)):
        numbers[group, step] = number
    return numbers


def _done_by(plan: Plan) -> list[tuple[int, int]]:
    """Each step with each group that may do it, as numbers. One that nobody does counts as the first group's: so the
    core's steps have the plan's numbers."""
    journeys = {journey.name: number for number, journey in enumerate(plan.journeys)}
    terms = [GroupTerms.of(plan, group) for group in plan.people]
    found = []
    for step, (journey, _) in enumerate(plan.steps):
        number = journeys[journey.name]
        doing = [group for group, own in enumerate(terms) if own.weights[number] > 0 or number in own.fixed]
        found += [(step, group) for group in doing or [0]]
    return found


def _compile_step(
    plan: Plan, journey: Journey, step: Step, number: int, place: int, ends: tuple[bool, bool]
) -> Request:
    base, session = plan.system.base_url, journey.session
    body = step.body_text
    agreed = {"Accept": "*/*", "User-Agent": session.user_agent or DEFAULT_AGENT}
    own = {**agreed, **_signed(session, base, step.path)}
    if step.content_type is not None:
        own["Content-Type"] = step.content_type
    headers = _joined(own, step.headers)
    # Cookies of a step join those the answers set: a second header of that name would hide the first.
    cookie = next((headers.pop(name) for name in list(headers) if name.lower() == "cookie"), None)
    fixed = tuple(f"{k}: {v}".encode() for k, v in headers.items() if not template.variables(v))
    varying = tuple(
        template.compiled(f"{k}: {v}", template.in_header) for k, v in headers.items() if template.variables(v)
    )
    encode = template.in_json if step.json_body is not None else template.in_form if step.form is not None else None
    examiner = Examiner(step)
    limit_ms = max(1, round(step.time_limit * 1000))
    think = plan.think_of(step).as_law()
    return Request(
        step=number,
        journey=place,
        method=step.method,
        body=b"" if body is None else None if template.variables(body) else body.encode(),
        fill_body=template.compiled(body, encode) if body is not None else None,
        headers=(*fixed, b"Expect:"),
        fill_cookie=template.compiled(cookie, template.in_header) if cookie is not None else None,
        fill_headers=varying,
        expect=frozenset(step.expect_status),
        time_limit_ms=limit_ms,
        think=think,
        redirects=step.redirects,
        traced=not any(name.lower() == "traceparent" for name in step.headers),
        confined_to=_confined(base, step),
        examiner=examiner if examiner.wanted else None,
        accompanying=tuple(
            Request(
                step=number,
                journey=place,
                method="GET",
                body=b"",
                fill_body=None,
                headers=tuple(f"{k}: {v}".encode() for k, v in {**agreed, **_signed(session, base, path)}.items()),
                fill_cookie=None,
                fill_headers=(),
                expect=frozenset({200, 203, 204, 304}),
                time_limit_ms=limit_ms,
                think=think,
                redirects=True,
                session=session,
                **_address(base, path),
            )
            for path in step.accompanying
        ),
        session=session,
        first=ends[0],
        last=ends[1],
        **_address(base, step.path),
    )


def _confined(base: str, step: Step) -> int | None:
    """The port of a step that must not be led elsewhere: libcurl leaves out Authorization when a redirect
    leads to another origin, and sends every other header there."""
    secret = (secrecy.is_secret_name(name) for name in step.headers if name.lower() not in ("authorization", "cookie"))
    if not step.redirects or not any(secret):
        return None
    parts = urlsplit(base if step.path.startswith("/") else step.path)
    return parts.port or (443 if parts.scheme == "https" else 80)


def _signed(session: Session, base: str, path: str) -> Mapping[str, str]:
    """The session's credentials, for what goes to the system's own origin and nowhere else."""
    if session.credentials is None or origin_of(path) not in (OWN, origin_of(base)):
        return {}
    return session.credentials.headers


def _address(base: str, path: str) -> _Address:
    """The address where it is always the same, and how it is filled in. A whole address stays."""
    url = base + path if path.startswith("/") else path
    fill = template.compiled(url, template.in_address)
    varies = bool(template.variables(url))
    return {
        "url": None if varies else url.translate(_UNSAFE_IN_URL),
        "fill_url": lambda values: fill(values).translate(_UNSAFE_IN_URL),
    }


def _joined(own: Mapping[str, str], written: Mapping[str, str]) -> dict[str, str]:
    """Our headers, those written in the step taking their place whatever their case."""
    names = {name.lower() for name in written}
    return {**{name: value for name, value in own.items() if name.lower() not in names}, **written}
