"""Single requests of a run: those asked for, together and one by one, and the whole visit that one belongs to."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Literal

import numpy as np
import pyarrow as pa
from ninja import Field, Schema

from stonekettle.core import histogram
from stonekettle.core.spread import bars_of
from stonekettle.core.types import BoolArray
from stonekettle.engine.records import ERRORS, LED_ON, NEW_CONNECTION, WHOLE, error_name, trace_id
from stonekettle.engine.script import cell_numbers
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import components, levels, steps, tabled, traces
from stonekettle.server.runs.components import PathStay
from stonekettle.server.runs.levels import Held
from stonekettle.server.runs.models import GeneratorSecond, KeptRequest, RecordBundle, Run
from stonekettle.server.runs.plate import SelectionName, Stretch
from stonekettle.server.runs.search import PERCENTS, Chosen, Filter, Together

MOST_ROWS = 200
MOST_KINDS = 500
MOST_OF_VISIT = 2_000
NEAR_US = 1_000
"""A request kept whole began within so much of its record."""
ORDERS: Mapping[str, Any] = {
    "slowest": {"by": "total_us", "descending": True},
    "fastest": {"by": "total_us"},
    "first": {},
    "last": {"descending": True},
}
By = Literal["", "step", "group", "level", "minute", "answer", "user"]


class Wanted(Stretch):
    """Which requests: those that began in a stretch, of a selection of the plate, while so many users were there, with
    such an ``answer``: any, succeeded, failed, a status as ``status 503``, or another kind of error by its name. 0 is
    not asked. ``counting`` says whether a step with several requests is one."""

    of: str = Field("all", max_length=20)
    users_from: float = Field(0, ge=0)
    users_until: float = Field(0, ge=0)
    answer: str = Field("any", max_length=60)
    slower_ms: float = Field(0, ge=0, le=1e9)
    within_ms: float = Field(0, ge=0, le=1e9)
    user: int | None = Field(None, ge=0, le=2**32 - 1)
    counting: Literal["steps", "requests"] = "steps"


class Asked(Wanted):
    """And how they are told: a page of ``limit`` of them in an order, and together ``by`` something."""

    order: Literal["slowest", "fastest", "first", "last"] = "slowest"
    offset: int = Field(0, ge=0)
    limit: int = Field(50, ge=0, le=MOST_ROWS)
    by: By = ""


class RequestRow(Schema):
    """One request, or a step with several as one (``whole``). Times in s: ``start_s`` since the run's start, ``late_s``
    after it was due; ``dns_s`` to ``total_s`` from its own start, each to the end of that phase; 0 where there was no
    such phase. The true response time lies between total − ``blind_s`` and total. ``part`` is the how-manyeth of its
    step, ``texts`` whether headers and bodies are kept, ``traced`` whether servers told of its way, ``trace`` the id
    that it sent."""

    start_us: int
    start_s: float
    late_s: float
    step: str
    name: str
    journey: str
    group: str
    user: int
    visit: int
    part: int
    whole: bool
    status: int
    error: str
    fresh: bool
    led_on: bool
    dns_s: float
    connect_s: float
    tls_s: float
    sent_s: float
    first_byte_s: float
    total_s: float
    blind_s: float
    received: int
    sent: int
    texts: bool
    traced: bool
    trace: str


class KindRow(Schema):
    """Requests of one kind together; times in s, of those that did not fail. ``narrow`` says what is to be asked for to
    see these alone."""

    kind: str
    narrow: dict[str, str]
    count: int
    errors: int
    mean_s: float | None
    p50_s: float | None
    p95_s: float | None
    p99_s: float | None
    longest_s: float | None


class LevelStretch(Schema):
    """The seconds of a level."""

    name: str
    from_s: int
    until_s: int


class RequestsFound(Schema):
    """The requests wanted: ``total`` of them, and a page. Percentiles are exact, of those that did not fail, ``bars``
    how many of these took from one of ``edges_s`` to the next. ``recorded`` is whether the run has single requests at
    all; of the ``kinds`` they are put together by the first 500 are told. ``selections`` and ``levels`` are what can be
    asked for, ``until_s`` how far the run was known."""

    recorded: bool
    until_s: int
    selections: list[SelectionName]
    levels: list[LevelStretch]
    total: int
    together: KindRow | None
    edges_s: list[float]
    bars: list[int]
    by: list[KindRow]
    kinds: int
    lines: list[RequestRow]


class WholeTexts(Schema):
    """What a request and its answer said, as far as it was kept (secrets masked); ``why`` it was kept, ``size`` the
    answer's in bytes."""

    start_us: int
    why: str
    method: str
    url: str
    sent_headers: str
    sent_body: str
    headers: str
    body: str
    size: int


class WholeVisit(Schema):
    """Everything that a user's visit sent, in order, what is kept of it in full, and the ways of its requests through
    the system as far as servers told of them, by the id of their trace."""

    user: int
    visit: int
    journey: str
    group: str
    lines: list[RequestRow]
    texts: list[WholeTexts]
    paths: dict[str, list[PathStay]]


def of(run: Run, asked: Asked, seconds: int) -> RequestsFound:
    """The requests wanted of a run of so many seconds. Raises :class:`Conflict` where it has no such selection."""
    wanted = _filter(run, asked, seconds)
    found = Chosen(run, wanted)
    held = levels.of(run, seconds)
    together = [_kind_line("all", one, {}) for one in found.together()]
    edges_s, bars = bars_of(histogram.counts_of(found.total_us[~found.failed])[None].astype(np.float64))
    kinds = _by(run, found, asked.by, held, seconds) if asked.by else []
    page = found.page(**ORDERS[asked.order], offset=asked.offset, limit=asked.limit)
    return RequestsFound(
        recorded=bool(found.total) or _recorded(run),
        until_s=seconds,
        selections=[SelectionName(id=one.id, name=one.name) for one in run.layout.selections],
        levels=[LevelStretch(name=one.name, **_stretch_of(one)) for one in held],
        total=found.total,
        together=together[0] if together else None,
        edges_s=edges_s.tolist(),
        bars=[round(count) for count in bars[0].tolist()],
        by=kinds[:MOST_KINDS],
        kinds=len(kinds),
        lines=_lines(run, page),
    )


def visit_of(run: Run, user: int, visit: int) -> WholeVisit | None:
    """A user's visit; None where nothing of it is recorded."""
    found = Chosen(run, Filter(users=(user,), visit=visit))
    lines = _lines(run, found.page(limit=MOST_OF_VISIT))
    if not lines:
        return None
    kept = KeptRequest.objects.filter(run=run, user=user, visit=visit)
    return WholeVisit(
        user=user,
        visit=visit,
        journey=lines[0].journey,
        group=lines[0].group,
        lines=lines,
        texts=[WholeTexts(start_us=one.start_us, why=one.why, **one.texts) for one in kept],
        paths=_paths(run, user, visit, lines),
    )


def _paths(run: Run, user: int, visit: int, lines: Sequence[RequestRow]) -> dict[str, list[PathStay]]:
    found = {}
    for step, spans in traces.of_visit(run, user, visit).items():
        trace = trace_id(run.pk, user, visit, step)
        took = {line.part: line.total_s for line in lines if line.trace == trace}
        found[trace] = components.path_of(run, user, step, spans, took)
    return found


def _recorded(run: Run) -> bool:
    waiting = GeneratorSecond.objects.filter(generator__run=run, bundled=False)
    return RecordBundle.objects.filter(run=run).exists() or waiting.exclude(records=b"").exists()


def _filter(run: Run, wanted: Wanted, seconds: int) -> Filter:
    stretch = wanted.within(seconds)
    numbers, groups = _of(run, wanted.of)
    statuses, errors, failed = _answered(wanted.answer)
    return Filter(
        since_s=stretch.from_s or None,
        until_s=stretch.until_s or None,
        seconds=_with_users(run, wanted, seconds),
        steps=numbers,
        groups=groups,
        users=None if wanted.user is None else (wanted.user,),
        statuses=statuses,
        errors=errors,
        failed=failed,
        slower_than_s=wanted.slower_ms / 1e3 or None,
        within_s=wanted.within_ms / 1e3 or None,
        counting=wanted.counting,
    )


def _answered(answer: str) -> tuple[list[int] | None, list[int] | None, bool | None]:
    """Statuses, kinds of error, and whether it failed, of an answer in words; None is not asked."""
    if answer in ("any", "succeeded", "failed"):
        return None, None, None if answer == "any" else answer == "failed"
    status = answer.removeprefix("status ")
    if status != answer and status.isdecimal() and len(status) <= 3:
        return [int(status)], None, None
    if answer not in ERRORS[2:]:
        known = ", ".join(ERRORS[2:])
        raise Conflict(f"{answer!r} is no answer. Say any, succeeded, failed, a status as in status 503, or {known}.")
    return None, [ERRORS.index(answer)], None


def _of(run: Run, selection: str) -> tuple[list[int] | None, list[int] | None]:
    """The steps and the groups of a selection of the plate; None: all."""
    if selection in ("", "all"):
        return None, None
    chosen = next((one for one in run.layout.selections if one.id == selection), None)
    if chosen is None:
        raise Conflict(f"Run {run.pk} has nothing that is called {selection!r}. Ask for all, or a step as step:0.")
    groups, numbers = np.nonzero(np.isin(cell_numbers(run.plan), chosen.cells))
    return np.unique(numbers).tolist(), np.unique(groups).tolist()


def _with_users(run: Run, wanted: Wanted, seconds: int) -> BoolArray | None:
    """The seconds in which as many users were there as are asked for."""
    low, high = wanted.users_from, wanted.users_until or np.inf
    if not low and high == np.inf:
        return None
    users = tabled.users_by_second(run, seconds)
    return (users >= low) & (users <= high)


def _by(run: Run, found: Chosen, by: By, held: Sequence[Held], seconds: int) -> list[KindRow]:
    """The requests put together by something, in its order, or the most frequent first."""
    if by == "level":
        levels_by = {one.number: one for one in held}
        lines = []
        for one in found.together(["level"], {"level": levels.by_second(held, seconds)}):
            level = levels_by.get(one.key[0])
            name = level.name if level else "Between levels"
            lines.append(_kind_line(name, one, _stretch_of(level) if level else {}))
        return lines
    if by == "minute":
        minutes = found.together(["minute"], {"minute": np.arange(seconds) // 60})
        return [_kind_line(name, one, narrow) for one in minutes for name, narrow in [_minute(one.key[0])]]
    columns = {"answer": ["error", "status"]}.get(by, [by])
    together = sorted(found.together(columns), key=lambda one: -one.count)
    return [_kind_line(name, one, narrow) for one in together for name, narrow in [_kind(run, by, one.key)]]


def _kind(run: Run, by: By, key: tuple[int, ...]) -> tuple[str, dict[str, Any]]:
    """The name of what requests are put together by, and what asks for them alone."""
    if by == "answer":
        name = error_name(*key) if key[0] else f"status {key[1]}"
        return name, {"answer": name}
    if by == "step":
        journey, step = run.plan.steps[key[0]]
        return f"{journey.name}: {step.name}", {"of": run.layout.step_ids[journey.name, step.name]}
    if by == "group":
        name = run.plan.people[key[0]].name
        selection = next((s.id for s in run.layout.selections if s.id.startswith("group:") and s.name == name), "all")
        return name, {"of": selection}
    return f"User {key[0]}", {"user": key[0]}


def _minute(number: int) -> tuple[str, dict[str, Any]]:
    return f"Minute {number + 1}", {"from_s": 60 * number, "until_s": 60 * (number + 1)}


def _stretch_of(level: Held) -> dict[str, int]:
    return {"from_s": math.ceil(level.start_s), "until_s": math.floor(level.end_s)}


def _kind_line(kind: str, one: Together, narrow: Mapping[str, object]) -> KindRow:
    shares = dict(zip(PERCENTS, map(steps.known, one.percentiles_s), strict=True))
    return KindRow(
        kind=kind,
        narrow={name: str(value) for name, value in narrow.items()},
        count=one.count,
        errors=one.errors,
        mean_s=steps.known(one.mean_s),
        p50_s=shares[50],
        p95_s=shares[95],
        p99_s=shares[99],
        longest_s=steps.known(one.longest_s),
    )


def _lines(run: Run, page: pa.Table) -> list[RequestRow]:
    plan = run.plan
    groups = [group.name for group in plan.people]
    rows: list[dict[str, Any]] = page.to_pylist()
    kept = _kept(run, rows)
    traced = traces.told_of(run, {row["user"] for row in rows})
    found = []
    for row in rows:
        journey, step = plan.steps[row["step"]]
        flags, status = row["flags"], row["status"]
        found.append(
            RequestRow(
                start_us=row["start_us"],
                start_s=row["start_us"] / 1e6,
                late_s=(row["start_us"] - row["scheduled_us"]) / 1e6,
                step=run.layout.step_ids[journey.name, step.name],
                name=step.name,
                journey=journey.name,
                group=groups[row["group"]],
                user=row["user"],
                visit=row["visit"],
                part=row["part"],
                whole=bool(flags & WHOLE),
                status=status,
                error=error_name(row["error"], status) if row["error"] else "",
                fresh=bool(flags & NEW_CONNECTION),
                led_on=bool(flags & LED_ON),
                **{f"{name}_s": row[f"{name}_us"] / 1e6 for name in _PHASES},
                received=row["bytes_in"],
                sent=row["bytes_out"],
                texts=any(
                    abs(at - row["start_us"]) <= NEAR_US
                    for at in kept.get((row["user"], row["visit"], row["step"]), ())
                    if row["part"] == 0
                ),
                traced=(row["user"], row["visit"], row["step"]) in traced,
                trace=trace_id(run.pk, row["user"], row["visit"], row["step"]),
            )
        )
    return found


_PHASES = ("dns", "connect", "tls", "sent", "first_byte", "total", "blind")


def _kept(run: Run, rows: Sequence[Mapping[str, Any]]) -> dict[tuple[int, int, int], list[int]]:
    """When requests that are kept whole began, by user, visit and step."""
    users = {row["user"] for row in rows}
    found: dict[tuple[int, int, int], list[int]] = {}
    told: Iterable[tuple[int, int, int, int]] = KeptRequest.objects.filter(run=run, user__in=users).values_list(
        "user", "visit", "step", "start_us"
    )
    for user, visit, step, start_us in told:
        found.setdefault((user, visit, step), []).append(start_us)
    return found
