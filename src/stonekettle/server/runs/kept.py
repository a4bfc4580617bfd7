"""Requests kept whole: those that the generators told, and of them those that stay once the run has ended."""

from __future__ import annotations

import heapq
import json
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

from stonekettle.core.orders import Ordered
from stonekettle.engine import records
from stonekettle.engine.kept import FIRST_FAILURES, LATER_FAILURES, SAMPLE, SLOWEST, Whole
from stonekettle.server.runs.models import KeptRequest, Run

TEXTS = ("method", "url", "sent_headers", "sent_body", "headers", "body", "size")
FIGURES = ("start_us", "user", "visit", "group", "step", "status", "error", "total_us", "blind_us", "why", "chance")


def keep(run_id: int, found: Iterable[Whole]) -> None:
    KeptRequest.objects.bulk_create(
        KeptRequest(
            run_id=run_id,
            texts={name: getattr(one, name) for name in TEXTS},
            **{name: getattr(one, name) for name in FIGURES},
        )
        for one in found
    )


def settle(run: Run) -> None:
    """Let go of what is not among the first failures, the slowest or the sample of the whole run, now that all of it
    is known."""
    told = list(KeptRequest.objects.filter(run=run).defer("texts"))
    staying = _staying(told, run.ordered)
    KeptRequest.objects.filter(pk__in=[one.pk for one in told if one.pk not in staying]).delete()


def _staying(told: Sequence[KeptRequest], ordered: Ordered) -> set[int]:
    steps: dict[object, list[KeptRequest]] = defaultdict(list)
    failed: dict[object, list[KeptRequest]] = defaultdict(list)
    slow: dict[object, list[KeptRequest]] = defaultdict(list)
    for one in told:
        order = ordered.in_effect(one.start_us / 1e6)
        under = (order.number if order else 0, one.step)
        steps[one.step].append(one)
        if one.error:
            failed[*under, one.error].append(one)
        else:
            slow[under].append(one)
    chosen = [one for one in told if one.error and one.chance < LATER_FAILURES]
    for group in steps.values():
        chosen += heapq.nsmallest(SAMPLE, group, key=lambda one: one.chance)
    for group in failed.values():
        chosen += group[:FIRST_FAILURES]
    for group in slow.values():
        chosen += heapq.nlargest(SLOWEST, group, key=lambda one: one.total_us)
    return {one.pk for one in chosen}


def as_lines(run: Run) -> Iterator[str]:
    """JSON, a request a line, with names for numbers and the name of its trace."""
    plan = run.plan
    groups = [group.name for group in plan.people]
    for row in KeptRequest.objects.filter(run=run).iterator(chunk_size=100):
        journey, step = plan.steps[row.step]
        told = {name: getattr(row, name) for name in FIGURES}
        names = {"group": groups[row.group], "journey": journey.name, "step": step.name}
        trace = records.trace_id(run.pk, row.user, row.visit, row.step)
        yield json.dumps({**told, **names, "trace_id": trace, **row.texts}, ensure_ascii=False) + "\n"
