"""Questions to a run's request records: which, in what order, or what they are together.

Bundles lie in the database; copies on disk, made when they are first asked for and dropped when there is no room, are
what questions are put to: of each bundle, and of each of its columns that was needed, plain, so that it is mapped into
memory and only what is looked at is read. Records of the last seconds of a run under way are in no bundle yet, and
are looked at as they are.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property, partial
from mmap import ACCESS_READ, mmap
from pathlib import Path
from typing import Any, Literal, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from django.conf import settings

from stonekettle.core.types import BoolArray, IntArray
from stonekettle.engine import bundles, records
from stonekettle.engine.records import PART, WHOLE
from stonekettle.server.runs.models import GeneratorSecond, RecordBundle, Run

CACHE_BYTES = 4_000_000_000
MOST_ROWS = 10_000
MOST_SINGLY = 20
_TYPES = {field.name: np.dtype(field.type.to_pandas_dtype()) for field in bundles.STORED}
THREADS = os.cpu_count() or 1
Order = Literal["start_us", "total_us"]
PERCENTS = (50, 95, 99)


@dataclass(frozen=True)
class Filter:
    """Records wanted; what is None is not asked. ``since_s`` to before ``until_s`` is when they started, ``seconds``
    which of the run's seconds counted them (True: wanted; later ones are not); ``steps`` and ``groups`` are numbers in
    the plan, ``errors`` those of kinds of error. ``counting`` steps takes a step with several requests as one."""

    since_s: float | None = None
    until_s: float | None = None
    seconds: BoolArray | None = None
    steps: Sequence[int] | None = None
    groups: Sequence[int] | None = None
    users: Sequence[int] | None = None
    visit: int | None = None
    parts: Sequence[int] | None = None
    statuses: Sequence[int] | None = None
    errors: Sequence[int] | None = None
    failed: bool | None = None
    slower_than_s: float | None = None
    within_s: float | None = None
    counting: Literal["requests", "steps"] = "requests"


@dataclass(frozen=True)
class Together:
    """Records of one kind together: how many, how many failed, and times of those that did not (s)."""

    key: tuple[int, ...]
    count: int
    errors: int
    mean_s: float
    percentiles_s: tuple[float, ...]
    longest_s: float


class Chosen:
    """The records wanted, found once, to be looked at page by page or together."""

    def __init__(self, run: Run, wanted: Filter = Filter()) -> None:
        self._parts = _parts(run, wanted)
        with ThreadPoolExecutor(THREADS) as threads:
            self._rows = list(threads.map(lambda part: _chosen(part, wanted), self._parts))
        self.total = sum(map(len, self._rows))

    @cached_property
    def total_us(self) -> IntArray:
        """How long each took (µs), shape (total,)."""
        return self._gathered("total_us")

    @cached_property
    def failed(self) -> BoolArray:
        return self._gathered("error") > 0

    def column(self, name: str) -> IntArray:
        """A column of all of them, shape (total,)."""
        return self.total_us if name == "total_us" else self._gathered(name)

    def page(self, *, by: Order = "start_us", descending: bool = False, offset: int = 0, limit: int = 100) -> pa.Table:
        """Them in order, ``limit`` (at most 10,000) from ``offset`` on, as a table of :data:`bundles.TABLE`."""
        limit = min(limit, MOST_ROWS)
        if offset >= self.total or limit <= 0:
            return bundles.TABLE.empty_table()
        # First the keys of all, then, where the page has some, those rows in full.
        keys = np.split(self.column(by), np.cumsum([len(rows) for rows in self._rows])[:-1])
        signed = [-own if descending else own for own in keys]
        last = min(offset + limit, self.total) - 1
        bound = int(np.partition(np.concatenate(signed), last)[last])
        on_page = [
            (part, rows[own <= bound])
            for part, rows, own in zip(self._parts, self._rows, signed, strict=True)
            if own.size and own.min() <= bound
        ]
        with ThreadPoolExecutor(THREADS) as threads:
            table = pa.concat_tables(threads.map(lambda some: _in_full(*some), on_page))
        order = pc.sort_indices(table, [(by, "descending" if descending else "ascending"), ("user", "ascending")])
        return table.take(order.slice(offset, limit))

    def together(self, by: Sequence[str] = (), by_second: Mapping[str, IntArray] | None = None) -> list[Together]:
        """Them put together by the values of these columns, or by a number for each second of the run, shape
        (seconds,) (−1 for seconds beyond)."""
        if not self.total:
            return []
        fields = [self._field(name, by_second or {}) for name in by]
        code = np.zeros(self.total if fields else 0, dtype=np.int64)
        for values in fields:
            low = int(values.min())
            code = code * (int(values.max()) - low + 1) + values - low
        order = np.argsort(code, kind="stable") if fields else np.arange(self.total)
        starts = np.flatnonzero(np.diff(code[order], prepend=-1)) if fields else np.zeros(1, dtype=np.int64)
        found = []
        for start, end in zip(starts, [*starts[1:], self.total], strict=True):
            own = order[start:end]
            good = self.total_us[own][~self.failed[own]] / 1e6
            known = good.size > 0
            found.append(
                Together(
                    key=tuple(int(values[own[0]]) for values in fields),
                    count=own.size,
                    errors=int(self.failed[own].sum()),
                    mean_s=float(good.mean()) if known else float("nan"),
                    percentiles_s=tuple(float(x) for x in np.percentile(good, PERCENTS))
                    if known
                    else (float("nan"),) * len(PERCENTS),
                    longest_s=float(good.max()) if known else float("nan"),
                )
            )
        return found

    def _field(self, name: str, by_second: Mapping[str, IntArray]) -> IntArray:
        if name not in by_second:
            return self._gathered(name).astype(np.int64)
        known = np.append(by_second[name], -1)
        return known[np.minimum(self._gathered("second").astype(np.int64), len(known) - 1)]

    def _gathered(self, name: str) -> IntArray:
        with ThreadPoolExecutor(THREADS) as threads:
            values = list(threads.map(lambda part, rows: _key(part, name, rows), self._parts, self._rows))
        return np.concatenate(values) if values else np.zeros(0, dtype=np.int64)


class _Part(Protocol):
    """Some of a run's records, column by column."""

    def take_out(self, names: Iterable[str]) -> None: ...

    def column(self, name: str) -> IntArray: ...


class _Waiting:
    """Records that are in no bundle yet."""

    def __init__(self, columns: Mapping[str, IntArray]) -> None:
        self._columns = columns

    def take_out(self, names: Iterable[str]) -> None:
        """They are in memory as it is."""

    def column(self, name: str) -> IntArray:
        return self._columns[name]


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


def _parts(run: Run, wanted: Filter) -> list[_Part]:
    """What may hold something wanted: bundles on disk, and what is in none yet."""
    held = RecordBundle.objects.filter(run=run)
    while True:
        before = held.count()
        copies, waiting = _copies(run, wanted), _waiting(run)
        if held.count() == before:  # else a minute was bundled in between, and may be in both or in neither
            return [*copies, *waiting]


def _waiting(run: Run) -> list[_Part]:
    columns = _columns_waiting(run)
    return [_Waiting(columns)] if columns else []


def waiting_of(run: Run) -> pa.Table:
    """Records that are in no bundle yet, as a table of :data:`bundles.STORED`."""
    columns = _columns_waiting(run)
    arrays = [pa.array(columns[field.name], type=field.type) for field in bundles.STORED] if columns else None
    return pa.table(arrays, schema=bundles.STORED) if arrays else bundles.STORED.empty_table()


def _columns_waiting(run: Run) -> dict[str, IntArray]:
    rows = GeneratorSecond.objects.filter(generator__run=run, bundled=False).order_by("second", "generator_id")
    told = [
        (second, records.from_table(records.from_chunk(bytes(chunk))))
        for second, chunk in rows.values_list("second", "records")
        if chunk
    ]
    return bundles.columns([found for _, found in told], [second for second, _ in told]) if told else {}


def copies_of(run: Run) -> list[Path]:
    """All bundles of a run as files."""
    return [copy.path for copy in _copies(run, Filter())]


def _copies(run: Run, wanted: Filter) -> list[_Copy]:
    """The bundles that may hold something wanted, on disk."""
    held = RecordBundle.objects.filter(run=run)
    if wanted.failed:
        held = held.filter(errors__gt=0)
    if wanted.slower_than_s is not None:
        held = held.filter(slowest_us__gt=wanted.slower_than_s * 1e6)
    if wanted.since_s is not None:
        held = held.filter(last_second__gte=int(wanted.since_s))  # a record is counted when it has ended
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


def _chosen(part: _Part, wanted: Filter) -> IntArray:
    """The places of the rows of a bundle that are wanted."""
    asked = _asked(wanted)
    slower, within = wanted.slower_than_s, wanted.within_s
    timed = slower is not None or within is not None
    part.take_out([*asked, *(("first_byte_us", "rest_us") if timed else ())])
    chosen: Any = True
    for name, holds in asked.items():
        chosen = chosen & holds(part.column(name))
    rows = np.flatnonzero(chosen)
    if timed:
        total = _key(part, "total_us", rows)
        low, high = -1 if slower is None else round(slower * 1e6), np.inf if within is None else round(within * 1e6)
        rows = rows[(total > low) & (total <= high)]
    return rows


def _in_full(part: _Part, rows: IntArray) -> pa.Table:
    """Records by their places."""
    part.take_out(bundles.STORED.names)
    return bundles.restored({name: part.column(name)[rows] for name in bundles.STORED.names})


def _asked(wanted: Filter) -> dict[str, Callable[[Any], Any]]:
    """What is asked of each column, and the columns that are needed to ask."""
    left_out = WHOLE if wanted.counting == "requests" else PART
    asked: dict[str, Callable[[Any], Any]] = {"flags": lambda flags: flags & left_out == 0}
    since, until = wanted.since_s, wanted.until_s
    if since is not None or until is not None:
        low, high = (since or 0.0) * 1e6, (until if until is not None else np.inf) * 1e6
        asked["start_us"] = lambda start: (start >= low) & (start < high)
    if wanted.seconds is not None:
        known = np.append(wanted.seconds, False)
        asked["second"] = lambda second: known[np.minimum(second, len(known) - 1)]
    lists = {
        "step": wanted.steps,
        "group": wanted.groups,
        "user": wanted.users,
        "part": wanted.parts,
        "status": wanted.statuses,
        "error": wanted.errors,
    }
    for name, values in lists.items():
        if values is not None:
            asked[name] = partial(_is_one_of, list(values))
    if wanted.visit is not None:
        asked["visit"] = lambda visit: visit == wanted.visit
    if wanted.failed is not None:
        kinds = wanted.errors
        asked["error"] = lambda error: (
            ((error > 0) == wanted.failed) & (True if kinds is None else _is_one_of(kinds, error))
        )
    return asked


def _is_one_of(values: Sequence[int], column: Any) -> Any:
    if len(values) > MOST_SINGLY:
        return np.isin(column, values)
    found = np.zeros(len(column), dtype=np.bool_)
    for value in values:  # one by one is ten times as fast for few
        found |= column == value
    return found


def _key(part: _Part, name: str, rows: IntArray) -> IntArray:
    """A figure of the records at these places."""
    if name == "total_us":
        return part.column("first_byte_us")[rows] + part.column("rest_us")[rows]
    return part.column(name)[rows]
