"""What a storm tells: the curve of ready against time, who came late or never, what was busy meanwhile, and how it was
beside an earlier one."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
from ninja import Schema

from stonekettle.core import readiness as core
from stonekettle.core.run_data import ResourceSeries
from stonekettle.core.types import FloatArray
from stonekettle.meters import disks
from stonekettle.meters.disks import DiskMeans, DiskWork
from stonekettle.plan.quantities import format_duration
from stonekettle.report import readiness as words
from stonekettle.report.notes.note import resource_text
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.changes.noting import State
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import data

BEFORE_S, AFTER_S = 10, 30
MOST_NAMED = 50
MOST_STRIPS = 12
MOST_DISKS = 4
MOST_OTHERS = 20
STRIP_POINTS = 240
MOVED = 0.005
"""A resource whose use changed by no more tells nothing here."""


class ReadyMark(Schema):
    """When so many percent of those asked for were ready (s after they were asked for); None: not."""

    share: int
    after_s: float | None


class ReadyPoint(Schema):
    after_s: float
    ready: int


class LateInstance(Schema):
    """An instance that came late (s after it was asked for), or never; what it answered last."""

    number: int
    after_s: float | None
    last: str


class Strip(Schema):
    """How busy a resource was (a share) around the storm: ``from_s`` after it was asked for, a value every ``every_s``;
    None where nothing was read."""

    words: str
    from_s: float
    every_s: float
    values: list[float | None]


class DiskUse(Schema):
    """Operations a second, how long each took (s) and how large each was (bytes); None where it was not told."""

    rate: float | None
    took_s: float | None
    size_bytes: float | None


class StormDisk(Schema):
    """What a component's disks did by reading or by writing, ``before`` it was asked for and ``meanwhile``, until the
    last was ready; and around it, as a strip."""

    component: str
    op: Literal["read", "write"]
    before: DiskUse
    meanwhile: DiskUse
    from_s: float
    every_s: float
    values: list[DiskUse]


class OtherStorm(Schema):
    """Another storm of the same change on the same system, and what came of it."""

    id: int
    run: int
    words: str
    asked: int
    after_s: float | None


class Apart(Schema):
    """The time until so many percent were ready over that of the other storm, at 95 %."""

    share: int
    ratio: float
    low: float
    high: float


class StormFindings(Schema):
    """Seconds are after it was asked for; ``asked_s`` is when that was after the start of the run's load. Instances
    were asked after every ``every_s``, so that nothing is told more exactly; the latest question was late by
    ``late_s``. ``against`` is another storm, ``apart`` what differs from it. ``missing`` is what is
    said of those that were not ready."""

    words: str
    who: str
    state: str
    fault: str
    sentence: str
    asked: int
    ready: int
    asked_s: float
    accepted_s: float | None
    every_s: float
    late_s: float
    marks: list[ReadyMark]
    curve: list[ReadyPoint]
    late: list[LateInstance]
    stragglers: int
    missing: str
    strips: list[Strip]
    disks: list[StormDisk]
    others: list[OtherStorm]
    against: int | None
    apart: list[Apart]
    apart_sentence: str


def of(change: SystemChange, against: int | None = None) -> StormFindings:
    """Raises :class:`Conflict` where the change started nothing that was asked after."""
    if not change.each:
        raise Conflict(
            f"Of {change.words!r} nothing was asked after: its change has no probes, or none was asked so far."
        )
    going = change.state in (State.ASKED, State.ACCEPTED)
    after = _after(change)
    found = core.readiness(after)
    others = _others(change)
    other = next((one for one in others if one.pk == against), None)
    ratios = core.compared(_after(other), after) if other is not None else {}
    until = "" if going else _until(change)
    named = found.stragglers[:MOST_NAMED] if not going else ()
    begin, end = _around(change)
    read = data.scraped(change.run, begin, end + 1)  # the next reading closes a second
    series = data.metered_by(change.run, read, end)
    return StormFindings(
        words=change.words,
        who=change.who,
        state=change.state,
        fault=change.fault,
        sentence=words.sentence(found, until),
        asked=found.asked,
        ready=found.ready,
        asked_s=change.asked_s,
        accepted_s=None if change.accepted_s is None else change.accepted_s - change.asked_s,
        every_s=change.probing.get("every_s", 1.0),
        late_s=change.probing.get("late_s", 0.0),
        marks=[ReadyMark(share=share, after_s=at) for share, at in found.after_s.items()],
        curve=[ReadyPoint(after_s=at, ready=count) for at, count in core.curve(after)],
        late=[
            LateInstance(number=change.each[place][0], after_s=_known(after[place]), last=change.each[place][2])
            for place in named
        ],
        stragglers=len(found.stragglers) if not going else 0,
        missing=f"not {until or 'yet'}",
        strips=list(_strips(series, change, begin, end)),
        disks=[_disk(one, change, begin, end) for one in _busiest(list(disks.work(read, end)), begin, end)],
        others=[_other(one) for one in others],
        against=other.pk if other is not None else None,
        apart=[Apart(share=share, ratio=one.value, low=one.low, high=one.high) for share, one in ratios.items()],
        apart_sentence=words.against(ratios, f"run {other.run_id}") if other is not None else "",
    )


def _until(change: SystemChange) -> str:
    """How long instances were asked after."""
    if not change.probing.get("followed"):
        return "by the end of the run"
    return f"within {format_duration(change.probing['within_s'])}"


def _after(change: SystemChange) -> FloatArray:
    """When each was ready (s after it was asked for); NaN: never."""
    return np.array([math.nan if at is None else max(0.0, at - change.asked_s) for _, at, _ in change.each])


def _known(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def _others(change: SystemChange) -> list[SystemChange]:
    """Other storms by the same change on systems of the same name, the newest first."""
    alike = SystemChange.objects.filter(name=change.name, run__deleted_at=None).exclude(pk=change.pk).exclude(each=[])
    own, system = alike.select_related("run").order_by("-pk")[: 2 * MOST_OTHERS], change.run.plan.system.name
    return [one for one in own if one.run.plan.system.name == system][:MOST_OTHERS]


def _other(change: SystemChange) -> OtherStorm:
    found = core.readiness(_after(change))
    return OtherStorm(id=change.pk, run=change.run_id, words=change.words, asked=found.asked, after_s=found.after_s[90])


def _around(change: SystemChange) -> tuple[int, int]:
    """From which second of the run shortly before it to which shortly after the last was ready; the same one where
    nothing is known of the time."""
    begin = max(0, int(change.asked_s) - BEFORE_S)
    return begin, max(begin, min(data.seconds_stored(change.run), int(_last_ready_s(change)) + AFTER_S))


def _last_ready_s(change: SystemChange) -> float:
    return max((at for _, at, _ in change.each if at is not None), default=change.asked_s)


def _strips(series: Sequence[ResourceSeries], change: SystemChange, begin: int, end: int) -> Iterator[Strip]:
    """How busy resources were from shortly before until shortly after, those first that changed the most."""
    every = _every(begin, end)
    told = []
    for one in series:
        values = one.utilisation[begin:end]
        moved = float(np.nanmax(values) - np.nanmin(values)) if np.isfinite(values).any() else 0.0
        if moved > MOVED:
            told.append((moved, one.key, values))
    for _, key, values in sorted(told, key=lambda one: -one[0])[:MOST_STRIPS]:
        blocks = [values[k : k + every] for k in range(0, values.size, every)]
        means = [float(np.nanmean(block)) if np.isfinite(block).any() else None for block in blocks]
        yield Strip(words=resource_text(key), from_s=begin - change.asked_s, every_s=every, values=means)


def _every(begin: int, end: int) -> int:
    """How many seconds a value of a strip tells of."""
    return max(1, -(-(end - begin) // STRIP_POINTS))


def _busiest(worked: Sequence[DiskWork], begin: int, end: int) -> list[DiskWork]:
    """Reading and writing of the components whose disks did the most meanwhile."""
    done: dict[str, float] = {}
    for one in worked:
        done[one.component] = done.get(one.component, 0.0) + float(np.nansum(one.operations[begin:end]))
    kept = sorted(done, key=lambda component: -done[component])[:MOST_DISKS]
    return [one for one in worked if one.component in kept]


def _disk(work: DiskWork, change: SystemChange, begin: int, end: int) -> StormDisk:
    asked, every = int(change.asked_s), _every(begin, end)
    ready = min(end, max(asked + 1, math.ceil(_last_ready_s(change))))
    return StormDisk(
        component=work.component,
        op=work.op,
        before=_use(work.means(begin, asked)),
        meanwhile=_use(work.means(asked, ready)),
        from_s=begin - change.asked_s,
        every_s=every,
        values=[_use(work.means(k, min(end, k + every))) for k in range(begin, end, every)],
    )


def _use(means: DiskMeans) -> DiskUse:
    return DiskUse(rate=means.rate, took_s=means.took_s, size_bytes=means.size_bytes)
