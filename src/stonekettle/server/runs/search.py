"""Questions to a run's request records: which, in what order, or what they are together.

Bundles lie in the database; copies on disk, made when they are first asked for and dropped when there is no room, are
what questions are put to: of each bundle, and of each of its columns that was needed, plain, so that it is mapped into
memory and only what is looked at is read.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from mmap import ACCESS_READ, mmap
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from django.conf import settings

from stonekettle.core.types import IntArray
from stonekettle.engine import bundles
from stonekettle.engine.records import PART, WHOLE
from stonekettle.server.runs.models import RecordBundle, Run

CACHE_BYTES = 4_000_000_000
MOST_ROWS = 10_000
MOST_SINGLY = 20
_TYPES = {field.name: np.dtype(field.type.to_pandas_dtype()) for field in bundles.STORED}
THREADS = os.cpu_count() or 1
Field = Literal["group", "step", "status", "error", "user"]
PERCENTS = (50, 95, 99)


@dataclass(frozen=True)
class Filter:
    """Records wanted; what is None is not asked. ``since_s`` to ``until_s`` is when they started; ``steps`` and
    ``groups`` are numbers in the plan. ``counting`` steps takes a step with several requests as one."""

    since_s: float | None = None
    until_s: float | None = None
    steps: Sequence[int] | None = None
    groups: Sequence[int] | None = None
    users: Sequence[int] | None = None
    visit: int | None = None
    statuses: Sequence[int] | None = None
    failed: bool | None = None
    slower_than_s: float | None = None
    counting: Literal["requests", "steps"] = "requests"


@dataclass(frozen=True)
class Found:
    """A page of the records wanted, and how many there are in all."""

    rows: pa.Table
    total: int


@dataclass(frozen=True)
class Together:
    """Records of one kind together: how many, how many failed, and times of those that did not (s)."""

    key: tuple[int, ...]
    count: int
    errors: int
    mean_s: float
    percentiles_s: tuple[float, ...]
    longest_s: float


def find(
    run: Run,
    wanted: Filter = Filter(),
    *,
    by: Literal["start_us", "total_us"] = "start_us",
    descending: bool = False,
    offset: int = 0,
    limit: int = 100,
) -> Found:
    """The records wanted, in order, ``limit`` of them (at most 10,000) from ``offset`` on."""
    limit = min(limit, MOST_ROWS)
    copies = _copies(run, wanted)
    with ThreadPoolExecutor(THREADS) as threads:
        # First the keys of all that is wanted, then, where the page has some, those rows in full.
        chosen = list(threads.map(lambda copy: _chosen(copy, wanted), copies))
        keys = list(threads.map(lambda copy, rows: _key(copy, by, rows), copies, chosen))
        total = sum(map(len, keys))
        if offset >= total or limit <= 0:
            return Found(bundles.TABLE.empty_table(), total)
        signed = [-own if descending else own for own in keys]
        last = min(offset + limit, total) - 1
        bound = int(np.partition(np.concatenate(signed), last)[last])
        on_page = [
            (copy, rows[own <= bound])
            for copy, rows, own in zip(copies, chosen, signed, strict=True)
            if own.size and own.min() <= bound
        ]
        table = pa.concat_tables(threads.map(lambda some: _in_full(*some), on_page))
    order = pc.sort_indices(table, [(by, "descending" if descending else "ascending"), ("user", "ascending")])
    return Found(table.take(order.slice(offset, limit)), total)


def summed(run: Run, by: Sequence[Field], wanted: Filter = Filter()) -> list[Together]:
    """The records wanted, put together by the values of these fields."""
    copies = _copies(run, wanted)
    with ThreadPoolExecutor(THREADS) as threads:
        chosen = list(threads.map(lambda copy: _chosen(copy, wanted), copies))

        def gathered(name: str) -> IntArray:
            parts = list(threads.map(lambda copy, rows: _key(copy, name, rows), copies, chosen))
            return np.concatenate(parts) if parts else np.zeros(0, dtype=np.int64)

        total, failed = gathered("total_us"), gathered("error") > 0
        fields = [gathered(name).astype(np.int64) for name in by]
    if not total.size:
        return []
    code = np.zeros(len(total), dtype=np.int64)
    for values in fields:
        code = code * (int(values.max(initial=0)) + 1) + values
    kinds, first, place = np.unique(code, return_index=True, return_inverse=True)
    order = np.argsort(place, kind="stable")
    edges = np.searchsorted(place[order], np.arange(len(kinds) + 1))
    found = []
    for kind in range(len(kinds)):
        own = order[edges[kind] : edges[kind + 1]]
        good = total[own][~failed[own]] / 1e6
        known = good.size > 0
        found.append(
            Together(
                key=tuple(int(values[first[kind]]) for values in fields),
                count=own.size,
                errors=int(failed[own].sum()),
                mean_s=float(good.mean()) if known else float("nan"),
                percentiles_s=tuple(float(x) for x in np.percentile(good, PERCENTS))
                if known
                else (float("nan"),) * len(PERCENTS),
                longest_s=float(good.max()) if known else float("nan"),
            )
        )
    return found


class _Copy:
    """A bundle on disk."""

    def __init__(self, folder: Path, bundle: int) -> None:
        self._folder, self._bundle = folder, bundle

    @property
    def path(self) -> Path:
        return self._folder / f"{self._bundle}.parquet"

    def take_out(self, names: Iterable[str]) -> None:
        """Have these columns beside the bundle, all that are missing in one reading."""
        missing = [name for name in names if not self._beside(name).exists()]
        if missing:
            table = pq.read_table(self.path, columns=missing, memory_map=True, use_threads=False)
            for name in missing:
                with _written(self._beside(name)) as part:
                    table[name].to_numpy().tofile(part)

    def column(self, name: str) -> IntArray:
        """A column, mapped into memory."""
        path = self._beside(name)
        if not path.exists():
            self.take_out([name])
        os.utime(path)
        with path.open("rb") as file:
            return np.frombuffer(mmap(file.fileno(), 0, access=ACCESS_READ), dtype=_TYPES[name])

    def _beside(self, name: str) -> Path:
        return self._folder / f"{self._bundle}.{name}"


@contextmanager
def _written(path: Path) -> Iterator[Path]:
    """A file beside ``path``, for whoever reads alone, that takes its place once it is whole."""
    part = path.with_name(f"{path.name}.{os.getpid()}-{threading.get_ident()}.part")
    part.touch(mode=0o600)
    try:
        yield part
        part.rename(path)
    finally:
        part.unlink(missing_ok=True)


def _copies(run: Run, wanted: Filter) -> list[_Copy]:
    """The bundles that may hold something wanted, on disk."""
    held = RecordBundle.objects.filter(run=run)
    if wanted.failed:
        held = held.filter(errors__gt=0)
    if wanted.slower_than_s is not None:
        held = held.filter(slowest_us__gt=wanted.slower_than_s * 1e6)
    if wanted.since_s is not None:
        held = held.filter(last_second__gte=int(wanted.since_s))
    folder = _folder()
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    copies = {
        pk: _Copy(folder, pk)
        for pk, steps in held.values_list("pk", "steps")
        if wanted.steps is None or not set(steps).isdisjoint(wanted.steps)
    }
    missing = [pk for pk, copy in copies.items() if not copy.path.exists()]
    if missing:
        _make_room(folder, set(map(str, copies)))
    for pk, content in RecordBundle.objects.filter(pk__in=missing).values_list("pk", "content").iterator(chunk_size=4):
        with _written(copies[pk].path) as part:
            part.write_bytes(content)
    return list(copies.values())


def _folder() -> Path:
    return Path(settings.SPOOL) / "bundles"


def forget(run: Run) -> None:
    """Drop the copies of a run's bundles."""
    bundles_of = {str(pk) for pk in RecordBundle.objects.filter(run=run).values_list("pk", flat=True)}
    for path in _folder().iterdir() if _folder().exists() else ():
        if _bundle_of(path) in bundles_of:
            path.unlink(missing_ok=True)


def _bundle_of(path: Path) -> str:
    return path.name.partition(".")[0]


def _make_room(folder: Path, needed: set[str]) -> None:
    """Drop copies asked for longest ago, but for those of bundles ``needed``, until the others fit."""
    files = sorted(((path.stat().st_mtime, path.stat().st_size, path) for path in folder.iterdir()), reverse=True)
    held = 0
    for _, size, path in files:
        held += size
        if held > CACHE_BYTES and _bundle_of(path) not in needed:
            path.unlink(missing_ok=True)


def _chosen(copy: _Copy, wanted: Filter) -> IntArray:
    """The places of the rows of a bundle that are wanted."""
    asked = _asked(wanted)
    copy.take_out([*asked, *(("first_byte_us", "rest_us") if wanted.slower_than_s is not None else ())])
    chosen: Any = True
    for name, holds in asked.items():
        chosen = chosen & holds(copy.column(name))
    rows = np.flatnonzero(chosen)
    if wanted.slower_than_s is not None:
        rows = rows[_key(copy, "total_us", rows) > int(wanted.slower_than_s * 1e6)]
    return rows


def _in_full(copy: _Copy, rows: IntArray) -> pa.Table:
    """Records by their places."""
    copy.take_out(bundles.STORED.names)
    return bundles.restored({name: copy.column(name)[rows] for name in bundles.STORED.names})


def _asked(wanted: Filter) -> dict[str, Callable[[Any], Any]]:
    """What is asked of each column, and the columns that are needed to ask."""
    left_out = WHOLE if wanted.counting == "requests" else PART
    asked: dict[str, Callable[[Any], Any]] = {"flags": lambda flags: flags & left_out == 0}
    since, until = wanted.since_s, wanted.until_s
    if since is not None or until is not None:
        low, high = (since or 0.0) * 1e6, (until if until is not None else np.inf) * 1e6
        asked["start_us"] = lambda start: (start >= low) & (start < high)
    lists = {"step": wanted.steps, "group": wanted.groups, "user": wanted.users, "status": wanted.statuses}
    for name, values in lists.items():
        if values is not None:
            asked[name] = partial(_is_one_of, list(values))
    if wanted.visit is not None:
        asked["visit"] = lambda visit: visit == wanted.visit
    if wanted.failed is not None:
        asked["error"] = lambda error: (error > 0) == wanted.failed
    return asked


def _is_one_of(values: Sequence[int], column: Any) -> Any:
    if len(values) > MOST_SINGLY:
        return np.isin(column, values)
    found = np.zeros(len(column), dtype=np.bool_)
    for value in values:  # one by one is ten times as fast for few
        found |= column == value
    return found


def _key(copy: _Copy, by: str, rows: IntArray) -> IntArray:
    """What records at these places are put in order by (µs)."""
    if by == "total_us":
        return copy.column("first_byte_us")[rows] + copy.column("rest_us")[rows]
    return copy.column(by)[rows]
