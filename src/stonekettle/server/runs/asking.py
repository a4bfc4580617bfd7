"""SQL over a run: what is asked is made ready as files, and answered by a process of its own."""

from __future__ import annotations

import json
import os
import re
import select
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
from django.conf import settings
from ninja import Field, Schema

from stonekettle.plan.problems import PlanError, Problem
from stonekettle.report.sql import tables
from stonekettle.report.sql.process import READY, REFUSED
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import data, rules, search, tabled
from stonekettle.server.runs.models import Run

MOST_ROWS, MOST_IN_FILE = 5_000, 200_000
SECONDS, KILLED_AFTER_S, FILE_AFTER_S = 3.0, 4.5, 30.0
BEGUN_WITHIN_S = 20.0
"""A machine that others use may take this long until a process has begun; it is not the statement's time."""
MEMORY_MB = 1_000
AT_ONCE = 2
PATIENCE_S = 1.0
_places = threading.BoundedSemaphore(AT_ONCE)


class Statement(Schema):
    """What is asked: one statement that reads."""

    statement: str = Field(min_length=1, max_length=20_000)


class StatementError(PlanError):
    """A statement that is not answered, with why."""

    title = "This is not answered"


class SqlColumn(Schema):
    name: str
    kind: str


class SqlAnswer(Schema):
    """The first rows of an answer; ``more`` is whether there are others. Numbers beyond what a browser knows exactly,
    dates and lists are texts."""

    columns: list[SqlColumn]
    rows: list[list[str | float | int | bool | None]]
    more: bool
    took_s: float


class SqlColumnTold(SqlColumn):
    says: str


class SqlTable(Schema):
    name: str
    says: str
    columns: list[SqlColumnTold]


class SqlExample(Schema):
    says: str
    statement: str


class SqlTables(Schema):
    """What can be asked of a run, some questions to begin with, and what a statement may take."""

    tables: list[SqlTable]
    examples: list[SqlExample]
    most_rows: int
    most_s: float
    most_mb: int


def told() -> SqlTables:
    return SqlTables(
        tables=[
            SqlTable(
                name=table.name,
                says=table.says,
                columns=[SqlColumnTold(name=c.name, kind=c.kind, says=c.says) for c in table.columns],
            )
            for table in tables.TABLES
        ],
        examples=[SqlExample(says=says, statement=statement) for says, statement in tables.EXAMPLES],
        most_rows=MOST_ROWS,
        most_s=SECONDS,
        most_mb=MEMORY_MB,
    )


def answer(run: Run, statement: str) -> bytes:
    """The answer as JSON (:class:`SqlAnswer`). Raises :class:`StatementError`."""
    return _answered(run, statement, as_csv=False)


def as_csv(run: Run, statement: str) -> bytes:
    """The whole answer as a file, of at most 200,000 rows."""
    return _answered(run, statement, as_csv=True)


def _answered(run: Run, statement: str, *, as_csv: bool) -> bytes:
    with _place(), tempfile.TemporaryDirectory(prefix="kettle-sql-") as folder:
        asked = {
            "statement": statement,
            **_readable(run, statement, Path(folder)),
            "rows": MOST_IN_FILE if as_csv else MOST_ROWS,
            "seconds": SECONDS,
            "memory_mb": MEMORY_MB,
            "as_csv": as_csv,
        }
        given = Path(folder) / "asked.json"
        given.write_text(json.dumps(asked))
        with (
            given.open("rb") as stdin,
            subprocess.Popen(
                [sys.executable, "-m", "stonekettle.report.sql.process"],
                stdin=stdin,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                cwd=folder,
                env={"PYTHONPATH": os.pathsep.join(sys.path)},  # and nothing of ours else, no keys nor passwords
            ) as process,
        ):
            try:
                _begun(process)
                out, said = process.communicate(timeout=FILE_AFTER_S if as_csv else KILLED_AFTER_S)
            except subprocess.TimeoutExpired:
                raise _refused(f"It did not end within {SECONDS:g} s.", "Ask for less, or group earlier.") from None
            finally:
                process.kill()
    if process.returncode == REFUSED:
        raise _refused(said.decode())
    if process.returncode:
        raise _refused("It was ended: it took more memory or processor than a statement may.", "Ask for less.")
    return out


def _begun(process: subprocess.Popen[bytes]) -> None:
    """Wait until the statement's time runs, or the process has ended. Raises :class:`Conflict`."""
    assert process.stdout
    ready, _, _ = select.select([process.stdout], [], [], BEGUN_WITHIN_S)
    if not ready:
        raise Conflict(f"The process that answers did not begin within {BEGUN_WITHIN_S:g} s. Ask again.")
    os.read(process.stdout.fileno(), len(READY))


def _refused(why: str, mend: str = "") -> StatementError:
    return StatementError([Problem("statement", why, mend)])


@contextmanager
def _place() -> Iterator[None]:
    """One of the few places for statements. Raises :class:`Conflict` where all are taken for longer than a moment."""
    if not _places.acquire(timeout=PATIENCE_S):
        raise Conflict(f"{AT_ONCE} statements are being answered, which is as many as there may be. Ask again.")
    try:
        yield
    finally:
        _places.release()


def _readable(run: Run, statement: str, folder: Path) -> dict[str, Any]:
    """What the statement may read: the records, and of the other tables those that it may mean."""
    seconds = data.seconds_stored(run)
    plan = run.plan
    waiting = search.waiting_of(run)
    bundles = [str(path) for path in search.copies_of(run)]
    if len(waiting):
        bundles.append(str(_written(waiting, folder / "waiting.parquet")))
    if not bundles and re.search(r"\b(requests|steps)\b", statement, re.IGNORECASE):
        rules.check_requests(run)
    named = {"moments": str(_written(tabled.moments_of(run, seconds), folder / "moments.parquet"))}
    makers: dict[str, Callable[[], pa.Table]] = {
        "levels": lambda: tabled.levels_of(run, seconds),
        "seconds": lambda: tabled.seconds_of(run),
        "metrics": lambda: tabled.metrics_of(run),
    }
    for name, make in makers.items():
        if re.search(rf"\b{name}\b", statement, re.IGNORECASE):
            if name != "levels":
                rules.check_seconds(run)
            named[name] = str(_kept(run, name, make))
    return {
        "bundles": bundles,
        "tables": named,
        "journeys": [journey.name for journey, _ in plan.steps],
        "steps": [step.name for _, step in plan.steps],
        "groups": [group.name for group in plan.people],
        "seed": run.pk,
    }


def _kept(run: Run, name: str, make: Callable[[], pa.Table]) -> Path:
    """A table of the run as it is now, made once."""
    folder = Path(settings.SPOOL) / "exports"
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    path = folder / f"run-{run.pk}-{run.sequence}.{run.story}-table-{name}.parquet"
    if not path.exists():
        for older in folder.glob(f"run-{run.pk}-*-table-{name}.parquet"):
            older.unlink(missing_ok=True)
        part = path.with_name(f"{path.name}.{threading.get_ident()}.part")
        try:
            _written(make(), part).rename(path)
        finally:
            part.unlink(missing_ok=True)
    os.utime(path)
    return path


def _written(table: pa.Table, path: Path) -> Path:
    pq.write_table(table, path, compression="zstd")
    path.chmod(0o600)
    return path
