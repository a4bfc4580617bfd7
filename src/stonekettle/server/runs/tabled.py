"""What a run measured as tables (:mod:`stonekettle.report.sql.tables`), for whoever asks in SQL or elsewhere."""

from __future__ import annotations

import csv

import numpy as np
import pyarrow as pa
import pyarrow.csv

from stonekettle.core.types import FloatArray
from stonekettle.report import result as results
from stonekettle.server.runs import data, levels
from stonekettle.server.runs.models import Run, RunSecond

COUNTS = ("second", "requests", "started", "completed", "errors")
LEVEL = pa.schema(
    [
        ("level", pa.int32()),
        *[(name, pa.float64()) for name in ("from_s", "until_s", "load")],
        *[(name, pa.float64()) for name in ("throughput", "mean_s", "p50_s", "p95_s", "p99_s")],
        ("completed", pa.int32()),
        ("failed", pa.int32()),
    ]
)


def levels_of(run: Run, seconds: int) -> pa.Table:
    """The levels of the findings, or, before there are any, those ordered."""
    rows = [
        {
            "level": one.number,
            "from_s": one.start_s,
            "until_s": one.end_s,
            "load": one.load.delivered,
            "throughput": one.throughput,
            "mean_s": one.response_s,
            "p50_s": one.p50_s,
            "p95_s": one.p95_s,
            "p99_s": one.p99_s,
            "completed": one.completions,
            "failed": one.errors,
        }
        for one in levels.measured(run)
    ] or [
        {"level": one.number, "from_s": one.start_s, "until_s": one.end_s, "load": one.load}
        for one in levels.of(run, seconds)
    ]
    return pa.Table.from_pylist(rows, schema=LEVEL)


def moments_of(run: Run, seconds: int) -> pa.Table:
    """To which level each of so many seconds belongs, and how many users were there."""
    number, users = levels.by_second(levels.of(run, seconds), seconds), users_by_second(run, seconds)
    return pa.table(
        {
            "second": pa.array(np.arange(seconds)),
            "level": pa.array(number.astype(np.int32), mask=number == 0),
            "users": pa.array(users, mask=np.isnan(users)),
        }
    )


def users_by_second(run: Run, seconds: int) -> FloatArray:
    """The users present, shape (seconds,); NaN where it is not known."""
    found = np.full(seconds, np.nan)
    rows = list(RunSecond.objects.filter(run=run, every=1, second__lt=seconds).values_list("second", "figures"))
    if rows:
        table = run.layout.table([bytes(figures) for _, figures in rows])
        found[[second for second, _ in rows]] = table[:, run.layout.load("users")]
    return found


def seconds_of(run: Run) -> pa.Table:
    """Second by second what seconds.csv tells."""
    text = results.seconds_csv(data.load(run).run)
    names = next(csv.reader([text[: text.index("\n")]]))
    kinds = {name: pa.int64() if name in COUNTS else pa.float64() for name in names}
    options = pyarrow.csv.ConvertOptions(column_types=kinds)
    return pyarrow.csv.read_csv(pa.BufferReader(text.encode()), convert_options=options)


def metrics_of(run: Run) -> pa.Table:
    """Every sample of every series, one a row; of counters also by how much they rose."""
    told = [row.told for row in RunSecond.objects.filter(run=run, every=1).only("told")]
    series = data.readings(run, told).series
    lengths = [item.times.size for item in series]
    names = {
        "component": [item.source.component for item in series],
        "instance": [item.source.instance for item in series],
        "metric": [item.source.metric for item in series],
        "labels": [", ".join(f"{name}={value}" for name, value in item.source.labels) for item in series],
    }
    which = pa.array(np.repeat(np.arange(len(series)), lengths), type=pa.int32())
    nothing = [np.zeros(0)]
    rose = np.concatenate([_rose(item.times, item.values, item.source.kind) for item in series] or nothing)
    return pa.table(
        {
            "at_s": np.concatenate([item.times for item in series] or nothing),
            **{name: pa.DictionaryArray.from_arrays(which, pa.array(own, pa.string())) for name, own in names.items()},
            "value": np.concatenate([item.values for item in series] or nothing),
            "per_s": pa.array(rose, mask=np.isnan(rose)),
        }
    )


def _rose(times: FloatArray, values: FloatArray, kind: str) -> FloatArray:
    """How fast a counter rose since the sample before; NaN where it began anew, and for what is no counter."""
    found = np.full(times.size, np.nan)
    if kind == "counter" and times.size > 1:
        with np.errstate(divide="ignore", invalid="ignore"):
            found[1:] = np.diff(values) / np.diff(times)
        found[~np.isfinite(found) | (found < 0)] = np.nan
    return found
