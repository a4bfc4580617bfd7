"""Questions to a run's request records: which, in what order, or what they are together.

Bundles lie in the database; a copy of each on disk, made when it is first asked for and dropped when there is no room,
is what questions are put to.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from functools import reduce
from operator import and_
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.dataset as ds
from django.conf import settings

from stonekettle.engine import bundles
from stonekettle.engine.records import PART, WHOLE
from stonekettle.server.runs.models import RecordBundle, Run

CACHE_BYTES = 4_000_000_000
MOST_ROWS = 10_000
SORTED_BY = ("start_us", "total_us")
GROUPED_BY = ("group", "step", "status", "error", "user")
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
    source, condition = _source(run, wanted), _condition(wanted)
    if source is None:
        return Found(bundles.TABLE.empty_table(), 0)
    keys = _key(source.to_table(columns=_columns_of(by), filter=condition), by)
    if offset >= keys.size or limit <= 0:
        return Found(bundles.TABLE.empty_table(), int(keys.size))
    # The worst key that is still on the page bounds what has to be read in full.
    signed = -keys if descending else keys
    last = min(offset + limit, keys.size) - 1
    bound = np.partition(signed, last)[last]
    bounded = (_expression(by) >= int(-bound)) if descending else (_expression(by) <= int(bound))
    table = bundles.restored(source.to_table(filter=condition & bounded))
    order = pc.sort_indices(table, [(by, "descending" if descending else "ascending"), ("user", "ascending")])
    return Found(table.take(order.slice(offset, limit)), int(keys.size))


def summed(run: Run, by: Sequence[str], wanted: Filter = Filter()) -> list[Together]:
    """The records wanted, put together by the values of these fields (of :data:`GROUPED_BY`)."""
    source = _source(run, wanted)
    if source is None:
        return []
    columns = list(dict.fromkeys([*by, "error", "first_byte_us", "rest_us"]))
    table = source.to_table(columns=columns, filter=_condition(wanted))
    total = table["first_byte_us"].to_numpy().astype(np.int64) + table["rest_us"].to_numpy()
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


def _source(run: Run, wanted: Filter) -> ds.Dataset | None:
    """The bundles that may hold something wanted, as files; None where there is none."""
    held = RecordBundle.objects.filter(run=run)
    if wanted.failed:
        held = held.filter(errors__gt=0)
    if wanted.slower_than_s is not None:
        held = held.filter(slowest_us__gt=wanted.slower_than_s * 1e6)
    if wanted.since_s is not None:
        held = held.filter(last_second__gte=int(wanted.since_s))
    ids = [
        pk
        for pk, steps in held.values_list("pk", "steps")
        if wanted.steps is None or not set(steps).isdisjoint(wanted.steps)
    ]
    return ds.dataset([str(path) for path in _cached(ids)], format="parquet") if ids else None


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


def _make_room(folder: Path, needed: set[Path]) -> None:
    """Drop copies asked for longest ago, but for those ``needed``, until the others fit."""
    files = sorted(((path.stat().st_atime, path.stat().st_size, path) for path in folder.iterdir()), reverse=True)
    held = 0
    for _, size, path in files:
        held += size
        if held > CACHE_BYTES and path not in needed:
            path.unlink(missing_ok=True)


def _condition(wanted: Filter) -> ds.Expression:
    field, parts = ds.field, []
    if wanted.since_s is not None:
        parts.append(field("start_us") >= int(wanted.since_s * 1e6))
    if wanted.until_s is not None:
        parts.append(field("start_us") < int(wanted.until_s * 1e6))
    lists = {"step": wanted.steps, "group": wanted.groups, "user": wanted.users, "status": wanted.statuses}
    parts += [field(name).isin(list(values)) for name, values in lists.items() if values is not None]
    if wanted.visit is not None:
        parts.append(field("visit") == wanted.visit)
    if wanted.failed is not None:
        parts.append((field("error") > 0) if wanted.failed else (field("error") == 0))
    if wanted.slower_than_s is not None:
        parts.append(_expression("total_us") > int(wanted.slower_than_s * 1e6))
    left_out = WHOLE if wanted.counting == "requests" else PART
    parts.append(pc.bit_wise_and(field("flags"), left_out) == 0)
    return reduce(and_, parts)


def _columns_of(by: str) -> list[str]:
    return ["first_byte_us", "rest_us"] if by == "total_us" else [by]


def _expression(by: str) -> Any:
    if by != "total_us":
        return ds.field(by)
    return ds.field("first_byte_us").cast("int64") + ds.field("rest_us")


def _key(table: pa.Table, by: str) -> Any:
    if by != "total_us":
        return table[by].to_numpy().astype(np.int64)
    return table["first_byte_us"].to_numpy().astype(np.int64) + table["rest_us"].to_numpy()
