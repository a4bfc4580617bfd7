"""The errors of a run: of which kind, at which steps, since when and under which load, with some of them as they were.

Kinds and their times come from the run's seconds; steps from the records of single requests, as long as these are kept.
"""

from __future__ import annotations

from collections import Counter

import numpy as np
from ninja import Schema

from stonekettle.core.types import IntArray
from stonekettle.engine.records import error_name
from stonekettle.server.runs import components, levels, steps, traces
from stonekettle.server.runs.models import KeptRequest, Run, RunSecond
from stonekettle.server.runs.plate import Stretch, narrowest
from stonekettle.server.runs.search import Chosen, Filter

TREND_BINS = 60
MOST_EXAMPLES = 3
MOST_TRACED = 1_000
EXCERPT = 600


class StepErrors(Schema):
    """How many of a kind a step had; ``id`` is its selection of the plate."""

    id: str
    name: str
    count: int


class LevelErrors(Schema):
    """How many of a kind a level had, among so many steps ``done`` in it."""

    name: str
    count: int
    done: int


class ComponentErrors(Schema):
    """How many of a kind failed in a component, the innermost that told so of them."""

    name: str
    count: int


class Example(Schema):
    """A request that failed, as it was kept: ``excerpt`` is the beginning of what was answered."""

    at_s: float
    user: int
    step: str
    request: str
    status: int
    took_s: float
    excerpt: str


class ErrorKind(Schema):
    """A kind of error in the stretch: its first one (under so many ``first_users``) and its last, by step the most
    frequent first, by level in order of time, by component where servers told of them (``traced`` of them), over the
    stretch as counts, and some examples."""

    kind: str
    count: int
    first_s: int
    first_users: float
    last_s: int
    steps: list[StepErrors]
    levels: list[LevelErrors]
    components: list[ComponentErrors]
    traced: int
    trend: list[int]
    examples: list[Example]


class Errors(Schema):
    """Failed steps among all that were done from ``from_s`` to before ``until_s``. ``by_step`` is whether single
    requests are there to tell the steps."""

    from_s: int
    until_s: int
    done: int
    failed: int
    by_step: bool
    kinds: list[ErrorKind]


def of(run: Run, window: Stretch, seconds: int) -> Errors:
    """The errors in a stretch of a run of so many seconds, the most frequent kind first."""
    start, end = steps.rounded(run, window, seconds)
    done, failed = steps.sums_of(run, start, end).counts[:2].sum(axis=1)
    width = narrowest(run)
    rows = RunSecond.objects.filter(run=run, every=width, second__gte=start, second__lt=end)
    told = [
        (second, kinds)
        for second, kinds in rows.exclude(told__error_kinds={}).values_list("second", "told__error_kinds")
        if kinds
    ]
    counts: Counter[str] = Counter()
    seen: dict[str, list[int]] = {}
    trends: dict[str, IntArray] = {}
    for second, kinds in told:
        for kind, count in kinds.items():
            counts[kind] += count
            seen.setdefault(kind, []).append(second)
            trend = trends.setdefault(kind, np.zeros(TREND_BINS, dtype=np.int64))
            trend[(second - start) * TREND_BINS // max(1, end - start)] += count
    single = _Single(run, start, end, max(end, seconds)) if counts else None
    by_step = single.by_step() if single else {}
    by_level = single.by_level() if single else {}
    by_component = single.by_component() if single else {}
    users = _users(run, width, {min(at) for at in seen.values()})
    return Errors(
        from_s=start,
        until_s=end,
        done=round(float(done)),
        failed=round(float(failed)),
        by_step=bool(by_step),
        kinds=[
            ErrorKind(
                kind=kind,
                count=count,
                first_s=min(seen[kind]),
                first_users=users[min(seen[kind])],
                last_s=max(seen[kind]),
                steps=_steps(run, by_step.get(kind, Counter())),
                levels=by_level.get(kind, []),
                components=[
                    ComponentErrors(name=name, count=count)
                    for name, count in by_component.get(kind, Counter()).most_common()
                    if name is not None
                ],
                traced=by_component.get(kind, Counter()).total(),
                trend=trends[kind].tolist(),
                examples=_examples(run, kind, start, end),
            )
            for kind, count in counts.most_common()
        ],
    )


def _users(run: Run, width: int, at: set[int]) -> dict[int, float]:
    """The users present in these seconds."""
    rows = RunSecond.objects.filter(run=run, every=width, second__in=at).values_list("second", "figures")
    place = run.layout.load("users")
    return {second: float(run.layout.table([bytes(figures)])[0, place]) for second, figures in rows}


def _steps(run: Run, counts: Counter[int]) -> list[StepErrors]:
    found = []
    for number, count in counts.most_common():
        journey, step = run.plan.steps[number]
        found.append(StepErrors(id=run.layout.step_ids[journey.name, step.name], name=step.name, count=count))
    return found


class _Single:
    """The failures of a stretch by the records of single requests."""

    def __init__(self, run: Run, start: int, end: int, seconds: int) -> None:
        at = np.arange(seconds)
        self._run, self._stretch = run, (at >= start) & (at < end)
        self._failed = Chosen(run, Filter(seconds=self._stretch, failed=True, counting="steps"))
        self._held = levels.of(run, seconds)
        self._level = levels.by_second(self._held, seconds)

    def by_step(self) -> dict[str, Counter[int]]:
        """By kind how many failures each step of the plan had."""
        found: dict[str, Counter[int]] = {}
        for one in self._failed.together(["step", "error", "status"]):
            step, error, status = one.key
            found.setdefault(error_name(error, status), Counter())[step] += one.count
        return found

    def by_level(self) -> dict[str, list[LevelErrors]]:
        """By kind how many each level had."""
        if not self._failed.total:
            return {}
        every = Chosen(self._run, Filter(seconds=self._stretch, counting="steps"))
        done = {one.key[0]: one.count for one in every.together(["level"], {"level": self._level})}
        names = {held.number: held.name for held in self._held}
        found: dict[str, list[LevelErrors]] = {}
        for one in self._failed.together(["level", "error", "status"], {"level": self._level}):
            level, error, status = one.key
            if level in names:
                told = LevelErrors(name=names[level], count=one.count, done=done[level])
                found.setdefault(error_name(error, status), []).append(told)
        return found

    def by_component(self) -> dict[str, Counter[str | None]]:
        """By kind in which component those failed that servers told of; None: in none of them."""
        names = ("user", "visit", "step", "error", "status")
        rows = zip(*(self._failed.column(name).tolist() for name in names), strict=True)
        kinds = {(user, visit, step): error_name(error, status) for user, visit, step, error, status in rows}
        found: dict[str, Counter[str | None]] = {}
        for request, spans in traces.of_requests(self._run, kinds, MOST_TRACED).items() if kinds else ():
            found.setdefault(kinds[request], Counter())[components.failing(self._run, spans)] += 1
        return found


def _examples(run: Run, kind: str, start: int, end: int) -> list[Example]:
    error, _, status = kind.partition(" ") if kind.startswith("status ") else (kind, "", "")
    rows = KeptRequest.objects.filter(
        run=run, error=error, start_us__gte=start * 1_000_000, start_us__lt=end * 1_000_000
    )
    rows = (rows.filter(status=int(status)) if status else rows)[:MOST_EXAMPLES]
    return [
        Example(
            at_s=row.start_us / 1e6,
            user=row.user,
            step=run.plan.steps[row.step][1].name,
            request=f"{row.texts['method']} {row.texts['url']}",
            status=row.status,
            took_s=row.total_us / 1e6,
            excerpt=row.texts["body"][:EXCERPT],
        )
        for row in rows
    ]
