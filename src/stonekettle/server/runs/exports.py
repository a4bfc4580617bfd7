"""A run's measurements as open files, made by a worker and kept for half a day."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Literal

import pyarrow.parquet as pq
from django.conf import settings
from django.db.models import Sum

from stonekettle.report import result as results
from stonekettle.server.runs import bundling, data, kept, tabled, traces
from stonekettle.server.runs.models import RecordBundle, Run

What = Literal["requests.parquet", "seconds.csv", "kept.jsonl", "traces.jsonl", "levels.parquet", "metrics.parquet"]
_BY_REQUEST = ("requests.parquet", "kept.jsonl", "traces.jsonl")
KEPT_S = 12 * 3600.0

Tell = Callable[[str, int, int], None]


def path_of(run: Run, what: What) -> Path:
    """Where the file of the run as it is now lies, once it has been made."""
    # What is marked, or found anew, changes nothing that was measured; these files tell both.
    state = f"{run.sequence}" if what in _BY_REQUEST else f"{run.sequence}.{run.story}"
    return Path(settings.SPOOL) / "exports" / f"run-{run.pk}-{state}-{what}"


def make(run: Run, what: What, tell: Tell) -> Path:
    """The file, made unless it is there; ``tell`` hears what is done."""
    path = path_of(run, what)
    if path.exists():
        return path
    path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    part = path.with_suffix(".part")
    try:
        if what == "requests.parquet":
            _write_requests(run, part, tell)
        elif what == "kept.jsonl":
            tell("Writing requests", 0, 0)
            with part.open("w", encoding="utf-8") as file:
                file.writelines(kept.as_lines(run))
        elif what == "traces.jsonl":
            tell("Writing traces", 0, 0)
            with part.open("w", encoding="utf-8") as file:
                file.writelines(traces.as_lines(run))
        elif what == "levels.parquet":
            pq.write_table(tabled.levels_of(run, data.seconds_stored(run)), part, compression="zstd")
        elif what == "metrics.parquet":
            tell("Writing metrics", 0, 0)
            pq.write_table(tabled.metrics_of(run), part, compression="zstd")
        else:
            tell("Writing seconds", 0, 0)
            markers = run.markers.values_list("at_s", "text")
            part.write_text(results.seconds_csv(data.load(run).run, markers), encoding="utf-8")
        part.chmod(0o600)
        part.rename(path)
    finally:
        part.unlink(missing_ok=True)
    return path


def _write_requests(run: Run, path: Path, tell: Tell) -> None:
    total = RecordBundle.objects.filter(run=run).aggregate(rows=Sum("rows"))["rows"] or 0
    writer = results.RequestsFile(path, run.plan, seed=run.pk)
    done = 0
    for table in bundling.tables(run):
        writer.write(table)
        done += len(table)
        tell("Writing requests", done, max(total, done))
    writer.close()


def forget_old() -> None:
    """Drop files made long ago; they can be made again."""
    for path in _files():
        if path.stat().st_mtime < time.time() - KEPT_S:
            path.unlink(missing_ok=True)


def forget(run: Run) -> None:
    """Drop the files of a run."""
    for path in _files():
        if path.name.startswith(f"run-{run.pk}-"):
            path.unlink(missing_ok=True)


def _files() -> Iterator[Path]:
    folder = Path(settings.SPOOL) / "exports"
    return folder.iterdir() if folder.exists() else iter(())
