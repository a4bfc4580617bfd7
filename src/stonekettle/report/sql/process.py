"""The process that answers one statement: it can read the tables it is given, and nothing else.

It is started for each statement, ``python -m stonekettle.report.sql.process``, with an :class:`Ask` as JSON on its
standard input. Once the statement's time runs it says :data:`READY`, and then the answer, JSON or lines of CSV; where
it refuses, why to its standard error, and ends with :data:`REFUSED`. The engine may neither open files nor the network,
nor change what it may do; memory, time and processor are bounded by the engine and, where that does not hold, by the
operating system.
"""

from __future__ import annotations

import csv
import json
import math
import os
import resource
import sys
import threading
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TextIO

import duckdb
import pyarrow as pa
import pyarrow.dataset as ds

from stonekettle.engine.bundles import STORED
from stonekettle.engine.records import ERRORS, LED_ON, NEW_CONNECTION, PART, WHOLE
from stonekettle.report.spreadsheet import harmless

REFUSED = 3
READY = b"\n"
MOST_TEXT = 2_000
MOST_TOLD = 8_000_000
"""So many characters of an answer are told, and of one as CSV ten times as many."""
MOST_CPU_S = 30
AT_ONCE = 2_000
READING = {"SELECT", "EXPLAIN"}
NO_FILE_OF_ITS_OWN = 0


@dataclass(frozen=True)
class Ask:
    """A statement, and what it may read: bundles of records and further tables, as files; the names that numbers of
    the records stand for. At most ``rows`` are told, in ``seconds`` and with so much ``memory_mb``."""

    statement: str
    bundles: Sequence[str]
    tables: Mapping[str, str]
    journeys: Sequence[str]
    steps: Sequence[str]
    groups: Sequence[str]
    seed: int
    rows: int
    seconds: float
    memory_mb: int
    as_csv: bool = False


class Refused(Exception):
    """The statement is not answered; the message says why and what to do."""


def main() -> None:
    ask, status = Ask(**json.load(sys.stdin)), 0
    _bound(ask)
    try:
        _answer(ask, sys.stdout)
    except Refused as refusal:
        status = REFUSED
        sys.stderr.write(str(refusal))
    for stream in (sys.stdout, sys.stderr):
        stream.flush()
    os._exit(status)  # the engine's threads may still be at a statement that nobody reads further


def _bound(ask: Ask) -> None:
    """What the operating system is to hold this process to, should the engine not."""
    resource.setrlimit(resource.RLIMIT_CPU, (MOST_CPU_S, MOST_CPU_S))
    resource.setrlimit(resource.RLIMIT_FSIZE, (NO_FILE_OF_ITS_OWN, NO_FILE_OF_ITS_OWN))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # Threads and mapped files take addresses that are no memory.
    room = (3 * ask.memory_mb + 2_000) * 1_000_000
    resource.setrlimit(resource.RLIMIT_AS, (room, room))


def _answer(ask: Ask, out: TextIO) -> None:
    connection = duckdb.connect(
        ":memory:", config={"memory_limit": f"{ask.memory_mb}MB", "threads": 2, "temp_directory": ""}
    )
    _fill(connection, ask)
    _lock(connection)
    out.write(READY.decode())
    out.flush()
    late = threading.Timer(ask.seconds, connection.interrupt)
    late.daemon = True
    late.start()
    began = time.monotonic()
    try:
        _check(connection, ask.statement)
        found = connection.execute(ask.statement)
        names = [(str(column[0]), str(column[1])) for column in found.description or ()]
        if ask.as_csv:
            _as_csv(names, _rows(found, ask.rows + 1), ask.rows, out)
        else:
            rows, more = _told(_rows(found, ask.rows + 1), ask.rows)
            columns = [{"name": name, "kind": kind} for name, kind in names]
            told = {"columns": columns, "rows": rows, "more": more, "took_s": time.monotonic() - began}
            out.write(json.dumps(told))
    except (duckdb.Error, MemoryError, RuntimeError) as error:
        raise Refused(_in_words(error, ask, time.monotonic() - began)) from error
    finally:
        late.cancel()


def _fill(connection: duckdb.DuckDBPyConnection, ask: Ask) -> None:
    """Put what may be read before the engine: read by us, so that it needs no files itself."""
    bundles: Any = ds.dataset(list(ask.bundles), schema=STORED) if ask.bundles else STORED.empty_table()
    connection.register("records_stored", bundles)
    for name, path in ask.tables.items():
        connection.register(name, ds.dataset(path))
    if "moments" not in ask.tables:
        columns = {"second": pa.int64(), "level": pa.int32(), "users": pa.float64()}
        connection.register("moments", pa.schema(columns).empty_table())
    connection.execute(f"CREATE VIEW requests AS {_view(ask, WHOLE, requests=True)}")
    connection.execute(f"CREATE VIEW steps AS {_view(ask, PART, requests=False)}")


def _lock(connection: duckdb.DuckDBPyConnection) -> None:
    for setting, value in {
        "python_enable_replacements": False,
        "enable_external_access": False,
        "autoinstall_known_extensions": False,
        "autoload_known_extensions": False,
        "allow_community_extensions": False,
        "lock_configuration": True,
    }.items():
        connection.execute(f"SET {setting} = {str(value).lower()}")


def _view(ask: Ask, without: int, *, requests: bool) -> str:
    """The records but for those with a flag, with names for numbers and seconds for µs."""
    total = "(first_byte_us + rest_us) / 1e6"
    further = f"""
        part,
        status,
        {_error()} AS error,
        {total} AS response_s,
        lag_us / 1e6 AS late_s,
        dns_us / 1e6 AS dns_s,
        connect_us / 1e6 AS connect_s,
        tls_us / 1e6 AS tls_s,
        sent_us / 1e6 AS sent_s,
        first_byte_us / 1e6 AS first_byte_s,
        blind_us / 1e6 AS blind_s,
        bytes_out AS sent_bytes,
        bytes_in AS received_bytes,
        flags & {NEW_CONNECTION} > 0 AS new_connection,
        flags & {LED_ON} > 0 AS redirected,
        format('{{:08x}}{{:08x}}{{:08x}}{{:08x}}', {ask.seed & 0xFFFFFFFF}, "user", visit, step) AS trace_id
    """
    short = f"status, {_error()} AS error, {total} AS response_s, lag_us / 1e6 AS late_s"
    return f"""
        SELECT
            start_us / 1e6 AS at_s,
            CAST(records_stored.second AS INTEGER) AS second,
            moments.level,
            moments.users,
            {_named(ask.journeys)}[step + 1] AS journey,
            {_named(ask.steps)}[step + 1] AS step,
            {_named(ask.groups)}["group" + 1] AS group_name,
            "user" AS user_number,
            visit,
            {further if requests else short}
        FROM records_stored LEFT JOIN moments ON moments.second = records_stored.second
        WHERE flags & {without} = 0
    """


def _named(names: Iterable[str]) -> str:
    return "[" + ", ".join("'" + name.replace("'", "''") + "'" for name in names) + "]"


def _error() -> str:
    return f"CASE error WHEN 0 THEN NULL WHEN 1 THEN 'status ' || status ELSE {_named(ERRORS)}[error + 1] END"


def _check(connection: duckdb.DuckDBPyConnection, statement: str) -> None:
    """Raises :class:`Refused` where it is not one statement that reads."""
    statements = connection.extract_statements(statement)
    if len(statements) != 1:
        raise Refused(f"One statement at a time; these are {len(statements)}.")
    kind = statements[0].type.name
    if kind not in READING:
        raise Refused(f"Only reading is possible here, and this is {kind}. Begin with SELECT, WITH or FROM.")


def _rows(found: Any, most: int) -> Iterator[Sequence[Any]]:
    told = 0
    while told < most and (some := found.fetchmany(min(AT_ONCE, most - told))):
        told += len(some)
        yield from some


def _told(rows: Iterable[Sequence[Any]], most: int) -> tuple[list[list[Any]], bool]:
    """The first rows as JSON has them, and whether there are more."""
    told: list[list[Any]] = []
    size = 0
    for row in rows:
        if len(told) == most or size > MOST_TOLD:
            return told, True
        told.append([_plain(value) for value in row])
        size += sum(len(value) if isinstance(value, str) else 8 for value in told[-1])
    return told, False


def _plain(value: Any) -> Any:
    """A value as JSON has it, bounded."""
    if value is None or isinstance(value, bool | int):
        # Beyond these a number is not exact in a browser.
        return value if value is None or abs(value) < 2**53 else str(value)
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if type(value).__name__ == "Decimal":
        return float(value)
    text = str(value)
    return text if len(text) <= MOST_TEXT else f"{text[:MOST_TEXT]}…"


def _as_csv(names: Sequence[tuple[str, str]], rows: Iterable[Sequence[Any]], most: int, out: TextIO) -> None:
    """All rows; raises :class:`Refused` where they are too many."""
    writer = csv.writer(out, lineterminator="\n")
    size = writer.writerow([harmless(name) for name, _ in names])
    for number, row in enumerate(rows):
        if number == most or size > 10 * MOST_TOLD:
            raise Refused(f"A file has at most {most} rows and {MOST_TOLD // 100_000} MB. Group or limit.")
        size += writer.writerow(["" if value is None else harmless(value) for value in row])


def _in_words(error: Exception, ask: Ask, took_s: float) -> str:
    said = str(error)
    if isinstance(error, duckdb.InterruptException) or took_s >= ask.seconds:
        return f"It was ended after {ask.seconds:g} s. Ask for a shorter stretch, fewer columns, or group earlier."
    if isinstance(error, duckdb.OutOfMemoryException | MemoryError) or "bad allocation" in said:
        return f"It needs more than the {ask.memory_mb} MB it may have. Group or limit before you join or sort."
    if isinstance(error, duckdb.PermissionException) or "disabled by configuration" in said:
        return "Files, the network, extensions and settings are out of reach here. The tables of the run are beside."
    return said[:MOST_TEXT]


if __name__ == "__main__":
    main()
