"""The people on a system: what they are doing, and the life of each in a stretch of the run."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Iterator

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from ninja import Field, Schema

from stonekettle.core.types import IntArray
from stonekettle.core.weave import weave
from stonekettle.engine import bundles, records
from stonekettle.engine.records import PART, error_name
from stonekettle.engine.seconds import WIDTHS
from stonekettle.server.runs.models import GeneratorSecond, RecordBundle, Run, RunSecond
from stonekettle.server.runs.steps import covering

LONGEST_S = 120
"""So much of a run is woven at most; a step is looked for so long before it."""
BINS = 240
MOST = 2000
MOST_REQUESTS = 300
LATE_S = 2


class Piece(Schema):
    """The seconds from ``from_s`` to before ``until_s``; 0: to the newest, and the last minute of what there is."""

    from_s: int = Field(0, ge=0)
    until_s: int = Field(0, ge=0)

    def within(self, seconds: int) -> tuple[int, int]:
        until = min(self.until_s or seconds, max(1, seconds))
        since = self.from_s if self.until_s else until - LONGEST_S // 2
        return max(0, since, until - LONGEST_S), max(1, until)


class StepCount(Schema):
    """How many are in a step at the moment."""

    id: str
    name: str
    count: int


class States(Schema):
    """What people are doing at second ``at_s``: ``waiting`` for an answer, ``thinking``, ``overdue`` at the generators;
    ``leaving`` are those of them that are not wanted any more. ``steps`` says in which step those who wait are."""

    at_s: int
    present: float
    waiting: float
    thinking: float
    overdue: float
    leaving: float
    steps: list[StepCount]


class Lives(Schema):
    """The lives of ``users`` from ``from_s`` to before ``until_s``: ``cells`` are a byte for each user and bin, row by
    row, deflated, in base64 (:mod:`core.weave`). Of ``there`` people in all at most 2,000 are shown, evenly chosen;
    ``failed`` of them had a step that failed. Steps that are not answered yet are not among them. Where single requests
    are gone or never were, ``users`` are none."""

    from_s: int
    until_s: int
    bins: int
    users: list[int]
    there: int
    failed: int
    cells: str
    states: States | None


class RequestLine(Schema):
    """One request of a user, ``part`` 0 its step's main one; times in s."""

    start_s: float
    total_s: float
    first_byte_s: float
    step: str
    part: int
    status: int
    error: str
    received: int


def lives(run: Run, piece: Piece, seconds: int) -> Lives:
    """The weave of a stretch, and what people are doing at its end."""
    since, until = piece.within(seconds)
    user, start, end, failed = _steps(run, since, until)
    woven = weave(user, start, end, failed, since=since, until=until, bins=BINS)
    there = woven.users.size
    if there > MOST:
        kept = np.linspace(0, there - 1, MOST).astype(np.int64)
        woven = type(woven)(woven.users[kept], woven.cells[kept])
    bad = np.unique(user[(failed > 0) & (end >= since) & (end < until)]).size
    return Lives(
        from_s=since,
        until_s=until,
        bins=BINS,
        users=woven.users.tolist(),
        there=there,
        failed=bad,
        cells=base64.b64encode(zlib.compress(woven.cells.astype(np.uint8).tobytes(), 1)).decode(),
        states=_states(run, until),
    )


def requests_of(run: Run, user: int, piece: Piece, seconds: int) -> list[RequestLine]:
    """What a user sent in a stretch, in order."""
    since, until = piece.within(seconds)
    plan = run.plan
    found = []
    for table in _tables(run, since, until):
        own = table.filter(pc.equal(table["user"], user))
        for row in own.to_pylist():
            begun = row["start_us"] / 1e6
            if begun < until and begun + row["total_us"] / 1e6 > since:
                journey, step = plan.steps[row["step"]]
                found.append(
                    RequestLine(
                        start_s=begun,
                        total_s=row["total_us"] / 1e6,
                        first_byte_s=row["first_byte_us"] / 1e6,
                        step=f"{journey.name}: {step.name}",
                        part=row["part"],
                        status=row["status"],
                        error="" if not row["error"] else error_name(row["error"], row["status"]),
                        received=row["bytes_in"],
                    )
                )
    return sorted(found, key=lambda line: line.start_s)[:MOST_REQUESTS]


def _steps(run: Run, since: int, until: int) -> tuple[IntArray, np.ndarray, np.ndarray, IntArray]:
    """Steps that may touch the stretch: user, start and end (s), failed."""
    parts = []
    for table in _tables(run, since, until):
        columns = {name: table[name].to_numpy() for name in ("user", "start_us", "total_us", "error", "flags")}
        whole = (columns["flags"] & PART) == 0
        parts.append([columns[name][whole] for name in ("user", "start_us", "total_us", "error")])
    if not parts:
        nothing = np.zeros(0, dtype=np.int64)
        return nothing, np.zeros(0), np.zeros(0), nothing
    user, start_us, total_us, error = (np.concatenate(column).astype(np.int64) for column in zip(*parts, strict=True))
    return user, start_us / 1e6, (start_us + total_us) / 1e6, error


def _tables(run: Run, since: int, until: int) -> Iterator[pa.Table]:
    """Records counted from ``since`` to some time after ``until``: they are where their step ended."""
    last = until + LONGEST_S
    inside = RecordBundle.objects.filter(run=run, last_second__gte=since, first_second__lte=last)
    for content in inside.values_list("content", flat=True):
        yield bundles.read(bytes(content))
    rows = GeneratorSecond.objects.filter(generator__run=run, bundled=False, second__gte=since, second__lte=last)
    for chunk in rows.values_list("records", flat=True):
        if chunk:
            yield records.from_chunk(bytes(chunk))


def _states(run: Run, until: int) -> States | None:
    layout = run.layout
    rows = RunSecond.objects.filter(run=run, every=1, second__lt=until).order_by("-second")
    newest = list(rows.values_list("second", "figures")[:LATE_S])
    if not newest:
        return None
    second, packed = newest[-1]
    figures = layout.table([bytes(packed)])[0]
    present, waiting, overdue, wanted = (
        float(figures[layout.load(name)]) for name in ("users", "in_flight", "overdue", "ordered")
    )
    pieces = list(covering(0, second + 1, 1))
    begun = np.concatenate(
        [layout.table(_figures(run, every, [at for width, at in pieces if width == every])) for every in WIDTHS]
    )
    steps = []
    for number, one in enumerate(layout.selections):
        if one.id.startswith("step:"):
            started, done = (begun[:, layout.requests(number, name)].sum() for name in ("started", "completed"))
            steps.append(StepCount(id=one.id, name=one.name, count=max(0, round(started - done))))
    return States(
        at_s=second,
        present=present,
        waiting=waiting,
        thinking=max(0.0, present - waiting - overdue),
        overdue=overdue,
        leaving=max(0.0, present - wanted),
        steps=steps,
    )


def _figures(run: Run, every: int, at: list[int]) -> list[bytes]:
    rows = RunSecond.objects.filter(run=run, every=every, second__in=at)
    return [bytes(packed) for packed in rows.values_list("figures", flat=True)]
