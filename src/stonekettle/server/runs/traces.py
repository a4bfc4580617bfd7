"""What servers told of single requests of a run: received as spans, kept for failures, the slowest and a sample."""

from __future__ import annotations

import hashlib
import heapq
import time
from collections import defaultdict
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence

from django.db.models import QuerySet

from stonekettle.engine import records
from stonekettle.engine.script import traced_each
from stonekettle.meters import otlp_traces
from stonekettle.meters.otlp_traces import PushedSpan
from stonekettle.server.runs.models import KeptRequest, Run, Trace
from stonekettle.server.systems.models import System

LATE_S = 600.0
"""What is told so long after a run's end is of it still."""
MOST_AT_ONCE = 500
"""Traces of one push that are kept, those by chance first."""
MOST_HELD = 50_000
"""So many parts of traces a run holds at the most; beyond that they are thinned."""
MOST_SPANS = 500
"""Spans of one trace kept of one push."""
MOST_SAMPLED = 5_000
"""Parts of traces by chance that stay of a run."""

Request = tuple[int, int, int]
"""A request's user, visit and step."""


def keep(system: System, body: bytes, content_type: str, encoding: str) -> int:
    """Keep what was pushed of runs of a system; how many spans. What belongs to no run of it, to other requests than
    those of a run, is passed over: a system in use tells of others too. Raises :class:`meters.otlp.OtlpError`."""
    told = otlp_traces.read(body, content_type, encoding)
    named = {trace: records.named_by(trace) for trace in told}
    numbers = {run for run, *_ in named.values()}
    known = Run.objects.there().filter(system=system, pk__in=numbers, begun_at__isnull=False)
    runs = {run.pk: run for run in known.defer("result", "whole_result")}
    by_run: dict[int, list[tuple[float, str]]] = defaultdict(list)
    now = time.time()
    for trace, (number, _, _, step) in named.items():
        run = runs.get(number)
        late = run is not None and run.ended_at is not None and now - run.ended_at.timestamp() > LATE_S
        if run is not None and not late and step < len(run.plan.steps):
            by_run[number].append((_chance(trace), trace))
    rows: list[Trace] = []
    for number, traces in by_run.items():
        run = runs[number]
        users = {named[trace][1] for _, trace in traces}
        below, whole, each = _make_room(run), _kept_whole(run, users), traced_each(run.plan)
        for chance, trace in heapq.nsmallest(MOST_AT_ONCE, traces):
            of = named[trace][1:]
            by_chance = chance < below and (run.ended_at is None or records.is_traced(*of[:2], each))
            if by_chance or of in whole:
                user, visit, step = of
                spans = [span.row for span in told[trace][:MOST_SPANS]]
                rows.append(
                    Trace(run=run, user=user, visit=visit, step=step, chance=chance, received_at=now, spans=spans)
                )
    Trace.objects.bulk_create(rows)
    return sum(len(row.spans) for row in rows)


def _make_room(run: Run) -> float:
    """Below which chance traces of a run are held: once there are too many, half of them go, but for those of requests
    kept whole, so that what stays is spread over all of the run."""
    held = Trace.objects.filter(run=run)
    if held.count() > MOST_HELD - MOST_AT_ONCE:
        run.traced_below /= 2
        Run.objects.filter(pk=run.pk).update(traced_below=run.traced_below)
        whole = _kept_whole(run)
        beyond = held.filter(chance__gte=run.traced_below).values_list("pk", "user", "visit", "step")
        Trace.objects.filter(pk__in=[pk for pk, *of in beyond if tuple(of) not in whole]).delete()
    return float(run.traced_below)


def settle(run: Run) -> None:
    """Let go of what is neither of a request kept whole nor in the sample, now that the run has ended."""
    told = list(Trace.objects.filter(run=run).defer("spans"))
    whole = _kept_whole(run)
    each = traced_each(run.plan)
    sampled = [one for one in told if records.is_traced(one.user, one.visit, each)]
    staying = {one.pk for one in heapq.nsmallest(MOST_SAMPLED, sampled, key=lambda one: one.chance)}
    gone = [one.pk for one in told if one.pk not in staying and (one.user, one.visit, one.step) not in whole]
    Trace.objects.filter(pk__in=gone).delete()


def of_visit(run: Run, user: int, visit: int) -> Mapping[int, list[PushedSpan]]:
    """What was told of a visit, by step."""
    found = Trace.objects.filter(run=run, user=user, visit=visit).values_list("step", "spans")
    by_step: dict[int, list[PushedSpan]] = defaultdict(list)
    for step, spans in found:
        by_step[step] += map(otlp_traces.from_row, spans)
    return by_step


def sample_of(run: Run, step: int) -> dict[Request, list[PushedSpan]]:
    """What was told of a step's requests that asked to be kept, which are no choice by how they went."""
    told, each = _together(Trace.objects.filter(run=run, step=step)), traced_each(run.plan)
    return {one: spans for one, spans in told.items() if records.is_traced(*one[:2], each)}


def of_requests(run: Run, wanted: Container[Request], most: int) -> dict[Request, list[PushedSpan]]:
    """What was told of those of these requests that anything was told of, of so many at the most, by chance."""
    held = Trace.objects.filter(run=run).order_by("chance", "pk").values_list("pk", "user", "visit", "step")
    numbers: dict[Request, list[int]] = defaultdict(list)
    for pk, user, visit, step in held:
        request = user, visit, step
        if request in wanted and (request in numbers or len(numbers) < most):
            numbers[request].append(pk)
    return _together(Trace.objects.filter(run=run, pk__in=[pk for own in numbers.values() for pk in own]))


def told_of(run: Run, users: Iterable[int]) -> set[Request]:
    """The requests of these users that anything was told of."""
    return set(Trace.objects.filter(run=run, user__in=users).values_list("user", "visit", "step"))


def part_of(user: int, step: int, span: PushedSpan) -> int | None:
    """Which request of its step sent the span: its number, by the sender's id in ``traceparent``; None: it was asked
    for by another span."""
    sender = span.parent
    if len(sender) != 16 or sender[:8] != f"{user:08x}" or sender[8:12] != f"{step & 0xFFFF:04x}":
        return None
    return max(0, int(sender[12:], 16) - 1)


def by_part(user: int, step: int, spans: Sequence[PushedSpan]) -> dict[int, list[PushedSpan]]:
    """What was told of a user's step by the number of the request within it. What names none that is known belongs to
    the main one."""
    known = {span.id: span for span in spans}
    found: dict[int, list[PushedSpan]] = defaultdict(list)
    for span in known.values():
        top, seen = span, {span.id}
        while (above := known.get(top.parent)) is not None and above.id not in seen:
            seen.add(above.id)
            top = above
        found[part_of(user, step, top) or 0].append(span)
    return dict(found)


def as_lines(run: Run) -> Iterator[str]:
    """A trace a line, as a request in OTLP's JSON."""
    for (user, visit, step), spans in _together(Trace.objects.filter(run=run)).items():
        trace = records.trace_id(run.pk, user, visit, step)
        yield otlp_traces.as_json(otlp_traces.request_of((trace, span) for span in spans)) + "\n"


def last_told(system: System) -> float | None:
    """When traces of the system's runs came last (s since the epoch)."""
    newest = Trace.objects.filter(run__system=system).order_by("-pk").values_list("received_at", flat=True).first()
    return None if newest is None else float(newest)


def _kept_whole(run: Run, users: Iterable[int] | None = None) -> set[Request]:
    """The requests kept whole, of all or of these users."""
    kept = KeptRequest.objects.filter(run=run)
    if users is not None:
        kept = kept.filter(user__in=users)
    return set(kept.values_list("user", "visit", "step"))


def _together(told: QuerySet[Trace]) -> dict[Request, list[PushedSpan]]:
    found: dict[Request, list[PushedSpan]] = defaultdict(list)
    for user, visit, step, spans in told.values_list("user", "visit", "step", "spans").iterator():
        found[user, visit, step] += map(otlp_traces.from_row, spans)
    return found


def _chance(trace: str) -> float:
    """The same number from 0 to below 1 for all that is told of a trace, whatever its digits."""
    return int.from_bytes(hashlib.blake2b(trace.encode(), digest_size=6).digest()) / 2**48
