"""What came of changes under a run: told from its seconds and what its meters read."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from django.core.cache import cache
from ninja import Schema

from stonekettle.core import effect as core
from stonekettle.core.effect import Blocks
from stonekettle.core.histogram import decode_rows, percentile_s
from stonekettle.core.types import Estimate
from stonekettle.engine.rollup import LOW, unpack_histograms
from stonekettle.report import effect as words
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.runs import data
from stonekettle.server.runs.models import Run, RunSecond

AROUND_S = 70
FOLLOWED_S = 200
KEPT_S = 3_600
WORKING = 0.005
"""An instance works whose processors are busier than that."""


class Ratio(Schema):
    """After over before, with a 95 % interval."""

    value: float
    low: float
    high: float


class ReadyAt(Schema):
    at_s: float
    ready: int
    of: int


class SystemChangeLine(Schema):
    """A change under a run: moments in seconds after the start of its load, None: not, or not yet. ``metered_s`` is
    when meters read more or fewer servers of its component, ``first_traffic_s`` when one that was not there before
    began to work; ``settled_s`` from when on response times stayed as they were then. ``sentence`` tells what came of
    it; ``many`` is how many instances it started that are asked after, each by itself."""

    id: int
    name: str
    values: dict[str, str]
    words: str
    who: str
    state: str
    fault: str
    asked_s: float
    accepted_s: float | None
    ready_s: float | None
    told: list[ReadyAt]
    metered_s: float | None
    first_traffic_s: float | None
    settled_s: float | None
    mean: Ratio | None
    p95: Ratio | None
    failed: int
    ended: int
    sentence: str
    many: int


class ChangeAsks(Schema):
    """A change that can be asked for, and what has to be said for it."""

    name: str
    asks: list[str]


class Changes(Schema):
    """The changes under a run, and those that can be asked for; ``components`` are those of its system."""

    made: list[SystemChangeLine]
    can: list[ChangeAsks]
    components: list[str]


def of(run: Run) -> Changes:
    operations = run.plan.system.operations
    # A page of a run under way asks this every second or so: what became of each of thousands is not read for it.
    made = list(run.changes.defer("each"))
    stored_s = data.seconds_stored(run) if made else 0
    return Changes(
        made=[_known_line(run, change, made[k + 1 :], stored_s) for k, change in enumerate(made)],
        can=[ChangeAsks(name=one.name, asks=list(one.asks)) for one in operations.changes] if operations else [],
        components=[component.name for component in run.plan.system.components],
    )


def _known_line(run: Run, change: SystemChange, later: Sequence[SystemChange], stored_s: int) -> SystemChangeLine:
    """Worked out anew only when it or its run went on, or a block more is known of the time that tells of it."""
    until_s = min((one.asked_s for one in later), default=math.inf)
    done_s = _done_s(change)
    told_until_s = math.inf if done_s is None else done_s + FOLLOWED_S
    known = int(min(stored_s, told_until_s)) // core.BLOCK_S
    # Meters tell later than generators: what the last of them told is known once the run is over.
    state = (run.state, change.state, change.accepted_s, change.ready_s, len(change.told))
    key = f"change {change.pk} {state} {until_s} {known}".replace(" ", ":")
    line: SystemChangeLine | None = cache.get(key)
    if line is None:
        line = _line(run, change, until_s)
        cache.set(key, line, KEPT_S)
    return line


def _done_s(change: SystemChange) -> float | None:
    return change.ready_s if change.ready_s is not None else change.accepted_s


def _line(run: Run, change: SystemChange, until_s: float) -> SystemChangeLine:
    done_s = _done_s(change)
    found = None
    if done_s is not None and change.state != SystemChange.State.FAILED:
        blocks = _blocks(run, change.asked_s - AROUND_S, min(until_s, done_s + FOLLOWED_S))
        found = core.effect(blocks, change.asked_s, done_s, until_s)
    metered_s, first_s = _metered(run, change) if change.accepted_s is not None else (None, None)
    return SystemChangeLine(
        id=change.pk,
        name=change.name,
        values=change.values,
        words=change.words,
        who=change.who,
        state=change.state,
        fault=change.fault,
        asked_s=change.asked_s,
        accepted_s=change.accepted_s,
        ready_s=change.ready_s,
        told=[ReadyAt(at_s=at, ready=ready, of=of) for at, ready, of in change.told],
        metered_s=metered_s,
        first_traffic_s=first_s,
        settled_s=found.settled_s if found else None,
        mean=_ratio(found.mean) if found and found.mean else None,
        p95=_ratio(found.p95) if found and found.p95 else None,
        failed=found.failed if found else 0,
        ended=found.ended if found else 0,
        sentence=words.sentence(found, done=done_s is not None),
        many=change.told[-1][2] if change.probing and change.told else 0,
    )


def _ratio(estimate: Estimate) -> Ratio:
    return Ratio(value=estimate.value, low=estimate.low, high=estimate.high)


def _blocks(run: Run, begin_s: float, end_s: float) -> Blocks:
    """The seconds around a change, in blocks of five."""
    first = max(0, int(begin_s)) // core.BLOCK_S * core.BLOCK_S
    rows = RunSecond.objects.filter(run=run, every=1, second__gte=first)
    if math.isfinite(end_s):
        rows = rows.filter(second__lt=int(end_s))
    layout = run.layout
    told = list(rows.order_by("second").values_list("second", "figures", "histograms"))
    figures = layout.table([bytes(packed) for _, packed, _ in told])
    names = ("completed", "errors", "response_sum_s")
    ended, failed, took_s = (np.nan_to_num(figures[:, layout.requests(0, name)]) for name in names)
    users = figures[:, layout.load("users")] - np.nan_to_num(figures[:, layout.load("overdue")])
    block = np.array([second // core.BLOCK_S for second, _, _ in told], dtype=np.int64)
    found = []
    for number in np.unique(block):
        own = np.flatnonzero(block == number)
        if own.size < core.BLOCK_S:
            continue
        cells = [cell for place in own for key, cell in unpack_histograms(bytes(told[place][2])).items() if key < LOW]
        counts = decode_rows(cells, [0] * len(cells), 1)[0] if cells else np.zeros(1)
        good = ended[own].sum() - failed[own].sum()
        found.append(
            (
                float(number * core.BLOCK_S),
                float(np.nanmean(users[own])),
                ended[own].sum(),
                failed[own].sum(),
                took_s[own].sum() / good if good else math.nan,
                percentile_s(counts, 95) if counts.sum() else math.nan,
            )
        )
    return Blocks(*np.array(found, dtype=np.float64).reshape(-1, 6).T)


def _metered(run: Run, change: SystemChange) -> tuple[float | None, float | None]:
    """When meters read another number of servers of the component, and when a new instance began to work."""
    component = change.values.get("component")
    begin, end = max(0, int(change.asked_s) - 5), int((change.ready_s or change.asked_s) + 60)
    if component is None or (end := min(end, data.seconds_stored(run))) <= begin:
        return None, None
    series = data.metered_by(run, data.scraped(run, begin, end), end)
    cpu = next((one for one in series if one.component == component and one.kind == "cpu"), None)
    if cpu is None:
        return None, None
    asked = int(change.asked_s)
    before = cpu.capacity[begin : asked + 1]
    known = before[np.isfinite(before)]
    if not known.size:
        return None, None
    after = cpu.capacity[asked:end]
    other = np.flatnonzero(np.isfinite(after) & (np.abs(after - known[-1]) > 1e-6))
    working = []
    for values in cpu.instances.values():
        if np.isfinite(values[begin:asked]).any():
            continue
        busy = np.flatnonzero(np.nan_to_num(values[asked:end]) > WORKING)
        if busy.size:
            # Two readings make a rate: what worked in the first second known of it had begun in the one before.
            known_from = int(np.flatnonzero(np.isfinite(values[asked:end]))[0])
            working.append(asked + int(busy[0]) - (busy[0] == known_from))
    return float(asked + other[0]) if other.size else None, float(min(working)) if working else None
