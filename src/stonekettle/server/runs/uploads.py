"""Metrics files added to a run that has ended: looked at, aligned, kept, and taken out again."""

from __future__ import annotations

import zlib
from typing import Literal

import numpy as np
from ninja import Field, Schema

from stonekettle.core.alignment import Alignment
from stonekettle.meters import table_file
from stonekettle.meters.samples import CHUNK
from stonekettle.meters.table_file import Column, TableError
from stonekettle.plan.system import Kind
from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.runs import analysing, data
from stonekettle.server.runs.models import MetricsFile, Run


class ColumnUse(Schema):
    """A column taken as a metric; with a ``resource`` kind and a ``capacity`` (in the column's own
    unit; of a counter, per second) it becomes a resource."""

    column: str
    metric: str = Field(min_length=1, max_length=80)
    kind: Literal["gauge", "counter"] = "gauge"
    resource: Kind | None = None
    capacity: float | None = Field(default=None, gt=0)


class FileUse(Schema):
    """How a file is to be read: its component, its times and their zone, its columns."""

    component: str
    time_column: str
    zone: str = "UTC"
    columns: list[ColumnUse] = Field(min_length=1)
    offset_s: float = 0.0


def look(
    run: Run, name: str, content: bytes, time_column: str | None, zone: str
) -> tuple[tuple[Column, ...], str | None, Alignment | None]:
    """The file's columns, the one taken for times, and how its clock seems to be off."""
    table = table_file.read(name, content)
    found = table_file.columns(table)
    chosen = time_column or next((c.name for c in found if c.role == "time"), None)
    chosen = chosen or next((c.name for c in found if c.role == "number" and c.grows), None)
    if chosen is None:
        return found, None, None
    at = table_file.times(table, chosen, zone, run.begun_at or 0.0)
    numbers = [c for c in found if c.role == "number" and c.name != chosen]
    load = data.load(run).run.succeeded.astype(np.float64)
    return (
        found,
        chosen,
        table_file.best_alignment(
            at, [table_file.values(table, c.name) for c in numbers], [c.grows for c in numbers], load
        ),
    )


@act("added metrics to", Role.PLANNER)
def add(account: Account, run: Run, name: str, content: bytes, use: FileUse) -> MetricsFile:
    """Keep the file's series with the run, and analyse it anew. Raises :class:`TableError`."""
    components = [component.name for component in run.plan.system.components]
    if use.component not in components:
        raise TableError(
            "component", f"there is no component {use.component!r}.", f"There are {', '.join(components)}."
        )
    for column in use.columns:
        if column.resource is not None and column.capacity is None:
            raise TableError(
                "capacity", f"{column.column!r} needs a capacity.", "Say what full means: 100 for percent."
            )
    table = table_file.read(name, content)
    at = table_file.times(table, use.time_column, use.zone, run.begun_at or 0.0)
    rows = []
    for number, column in enumerate(use.columns):
        values = table_file.values(table, column.column)
        known = np.isfinite(values) & np.isfinite(at)
        part = np.empty(int(known.sum()), dtype=CHUNK)
        part["series"], part["at"], part["value"] = number, at[known], values[known]
        rows.append(part)
    packed = np.concatenate(rows)
    end = data.seconds_stored(run)
    inside = (packed["at"] - use.offset_s > 0) & (packed["at"] - use.offset_s < end + 1)
    if not inside.any():
        raise TableError("zone", "no row of the file falls within the run.", "Check its time zone and clock offset.")
    file = MetricsFile.objects.create(
        run=run,
        component=use.component,
        name=name[:200],
        sources=[[c.metric, {}, c.kind, c.resource, c.capacity] for c in use.columns],
        chunk=zlib.compress(packed.tobytes()),
        offset_s=use.offset_s,
    )
    analysing.analyse(run, state=run.state, cause=run.cause)
    account.about("run", run.pk, run.revision.experiment.name, note=f"{file.name}, of {file.component}")
    return file


@act("took metrics out of", Role.PLANNER)
def remove(account: Account, file: MetricsFile) -> None:
    """Take a file out again; the run is analysed without it."""
    run = file.run
    account.about("run", run.pk, run.revision.experiment.name, note=f"{file.name}, of {file.component}")
    file.delete()
    analysing.analyse(run, state=run.state, cause=run.cause)
