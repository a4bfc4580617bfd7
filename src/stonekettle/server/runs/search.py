"""Questions to a run's request records: which, in what order, or what they are together.

Bundles lie in the database; a copy of each on disk, made when it is first asked for and dropped when there is no room,
is what questions are put to.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
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
    paths = _paths(run, wanted)
    with ThreadPoolExecutor(THREADS) as threads:
        # First the keys of all that is wanted, then, where the page has some, those rows in full.
        keys = list(threads.map(lambda path: _key(_read(path, wanted, _columns_of(by)), by), paths))
        total = sum(map(len, keys))
        if offset >= total or limit <= 0:
            return Found(bundles.TABLE.empty_table(), total)
        signed = [-own if descending else own for own in keys]
        last = min(offset + limit, total) - 1
        bound = int(np.partition(np.concatenate(signed), last)[last])
        some = [(path, own) for path, own in zip(paths, signed, strict=True) if own.size and own.min() <= bound]

        def on_page(found: tuple[Path, IntArray]) -> pa.Table:
            path, own = found
            return _read(path, wanted, bundles.STORED.names).filter(pa.array(own <= bound))

        table = bundles.restored(pa.concat_tables(threads.map(on_page, some)))
    order = pc.sort_indices(table, [(by, "descending" if descending else "ascending"), ("user", "ascending")])
    return Found(table.take(order.slice(offset, limit)), total)


def summed(run: Run, by: Sequence[Field], wanted: Filter = Filter()) -> list[Together]:
    """The records wanted, put together by the values of these fields."""
    columns = [*by, "error", "first_byte_us", "rest_us"]
    with ThreadPoolExecutor(THREADS) as threads:
        parts = list(threads.map(lambda path: _read(path, wanted, columns), _paths(run, wanted)))
    if not parts:
        return []
    table = pa.concat_tables(parts)
    total = _key(table, "total_us")
    failed = table["error"].to_numpy() > 0
    fields = [table[name].to_numpy().astype(np.int64) for name in by]
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


def _paths(run: Run, wanted: Filter) -> list[Path]:
    """The bundles that may hold something wanted, as files."""
    held = RecordBundle.objects.filter(run=run)
    if wanted.failed:
        held = held.filter(errors__gt=0)
    if wanted.slower_than_s is not None:
        held = held.filter(slowest_us__gt=wanted.slower_than_s * 1e6)
    if wanted.since_s is not None:
        held = held.filter(last_second__gte=int(wanted.since_s))
    return _cached(
        [
            pk
            for pk, steps in held.values_list("pk", "steps")
            if wanted.steps is None or not set(steps).isdisjoint(wanted.steps)
        ]
    )


def _cached(ids: Sequence[int]) -> list[Path]:
    """Files of these bundles."""
    folder = Path(settings.SPOOL) / "bundles"
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    paths = {pk: folder / f"{pk}.parquet" for pk in ids}
    missing = [pk for pk, path in paths.items() if not path.exists()]
    for pk, content in RecordBundle.objects.filter(pk__in=missing).values_list("pk", "content").iterator(chunk_size=4):
        part = folder / f"{pk}.{os.getpid()}.part"
        part.write_bytes(content)
        part.chmod(0o600)
        part.rename(paths[pk])
    if missing:
        _make_room(folder, set(paths.values()))
    return list(paths.values())


def forget(run: Run) -> None:
    """Drop the copies of a run's bundles."""
    for pk in RecordBundle.objects.filter(run=run).values_list("pk", flat=True):
        (Path(settings.SPOOL) / "bundles" / f"{pk}.parquet").unlink(missing_ok=True)


def _make_room(folder: Path, needed: set[Path]) -> None:
    """Drop copies asked for longest ago, but for those ``needed``, until the others fit."""
    files = sorted(((path.stat().st_atime, path.stat().st_size, path) for path in folder.iterdir()), reverse=True)
    held = 0
    for _, size, path in files:
        held += size
        if held > CACHE_BYTES and path not in needed:
            path.unlink(missing_ok=True)


def _read(path: Path, wanted: Filter, columns: Sequence[str]) -> pa.Table:
    """Those columns of the rows of a bundle that are wanted, in their order."""
    asked = _asked(wanted)
    needed = list(dict.fromkeys([*columns, *asked]))
    table = pq.read_table(path, columns=needed, memory_map=True, use_threads=False)
    chosen = np.ones(len(table), dtype=np.bool_)
    for name, holds in asked.items():
        chosen &= holds(table[name].to_numpy())
    if wanted.slower_than_s is not None:
        chosen &= _key(table, "total_us") > int(wanted.slower_than_s * 1e6)
    return table.select(list(dict.fromkeys(columns))).filter(pa.array(chosen))


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
    if wanted.slower_than_s is not None:
        asked |= dict.fromkeys(("first_byte_us", "rest_us"), lambda column: True)
    return asked


def _is_one_of(values: Sequence[int], column: Any) -> Any:
    return np.isin(column, values)


def _columns_of(by: str) -> list[str]:
    return ["first_byte_us", "rest_us"] if by == "total_us" else [by]


def _key(table: pa.Table, by: str) -> IntArray:
    if by != "total_us":
        return np.asarray(table[by].to_numpy(), dtype=np.int64)
    return np.asarray(table["first_byte_us"].to_numpy().astype(np.int64) + table["rest_us"].to_numpy(), dtype=np.int64)
