"""The tables of a run that can be asked in SQL, and what their columns mean."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Column:
    """A column: its kind as the engine calls it, and its meaning with its unit."""

    name: str
    kind: str
    says: str


@dataclass(frozen=True)
class Table:
    name: str
    says: str
    columns: Sequence[Column]


_WHEN = (
    Column("at_s", "DOUBLE", "when it began, in s since the run's start"),
    Column("second", "INTEGER", "the second of the run in which it ended and was counted"),
    Column("level", "INTEGER", "the level that this second lies in; null between levels"),
    Column("users", "DOUBLE", "users there in this second"),
)
_WHAT = (
    Column("journey", "VARCHAR", "the journey"),
    Column("step", "VARCHAR", "the step of it"),
    Column("group_name", "VARCHAR", "the group that its user belongs to"),
    Column("user_number", "UINTEGER", "whose it was: a number nobody else has in the run"),
    Column("visit", "UINTEGER", "the how-manyeth journey of that user, from 1"),
)
_OUTCOME = (
    Column("status", "USMALLINT", "the status that answered, 0 where none did"),
    Column("error", "VARCHAR", "what failed of it; null where it succeeded"),
    Column("response_s", "DOUBLE", "from its start to its last byte, in s"),
)
TABLES: Sequence[Table] = (
    Table(
        "steps",
        "What people waited for: a row for each step done; one that takes several requests is one row.",
        (*_WHEN, *_WHAT, *_OUTCOME, Column("late_s", "DOUBLE", "how long after it was due it began, in s")),
    ),
    Table(
        "requests",
        "Each exchange on the wire: main requests, those a redirect led to, and those that accompany a page.",
        (
            *_WHEN,
            *_WHAT,
            Column("part", "USMALLINT", "the how-manyeth request of its step, 0 the main one"),
            *_OUTCOME,
            Column("late_s", "DOUBLE", "how long after it was due it began, in s"),
            Column("dns_s", "DOUBLE", "from its start until the name was looked up, 0 on an open connection"),
            Column("connect_s", "DOUBLE", "until it was connected"),
            Column("tls_s", "DOUBLE", "until the TLS handshake was done"),
            Column("sent_s", "DOUBLE", "until the request was sent"),
            Column("first_byte_s", "DOUBLE", "until the first byte of the answer"),
            Column("blind_s", "DOUBLE", "the answer may have been there so much earlier, unseen by the generator"),
            Column("sent_bytes", "UINTEGER", "bytes sent, headers and body"),
            Column("received_bytes", "UINTEGER", "bytes received, headers and body"),
            Column("new_connection", "BOOLEAN", "whether a connection was opened for it"),
            Column("redirected", "BOOLEAN", "whether it was answered by a redirect that was followed"),
            Column("trace_id", "VARCHAR", "the trace it named (W3C Trace Context)"),
        ),
    ),
    Table(
        "levels",
        "The levels of the load that the findings rest on, measured after warm-up.",
        (
            Column("level", "INTEGER", "its number"),
            Column("from_s", "DOUBLE", "where it began, in s since the run's start"),
            Column("until_s", "DOUBLE", "where it ended"),
            Column("load", "DOUBLE", "what the system felt of it: users, or arrivals per second"),
            Column("throughput", "DOUBLE", "steps that succeeded, per second; null before the run was analysed"),
            Column("mean_s", "DOUBLE", "their mean response time, in s"),
            Column("p50_s", "DOUBLE", "half of them took no longer"),
            Column("p95_s", "DOUBLE", "95 % took no longer"),
            Column("p99_s", "DOUBLE", "99 % took no longer"),
            Column("completed", "INTEGER", "steps that ended in the seconds that count"),
            Column("failed", "INTEGER", "of these, those that failed"),
        ),
    ),
    Table(
        "seconds",
        "A row a second, as in seconds.csv: load, throughput, percentiles, and each resource as component.name.",
        (
            Column("second", "BIGINT", "of the run, from 0"),
            Column("planned_users", "DOUBLE", "users ordered"),
            Column("users", "DOUBLE", "users there"),
            Column("in_flight", "DOUBLE", "steps on their way"),
            Column("requests", "BIGINT", "exchanges on the wire that ended"),
            Column("started", "BIGINT", "steps begun"),
            Column("completed", "BIGINT", "steps that ended"),
            Column("errors", "BIGINT", "of these, those that failed"),
            Column("p50_s", "DOUBLE", "half of them took no longer, in s; so p95_s and p99_s"),
            Column("stalled_s", "DOUBLE", "how long the generators stood still, in s"),
            Column('"name.utilisation"', "DOUBLE", "of each resource, 0 to 1, in a column of its name"),
        ),
    ),
    Table(
        "moments",
        "To which level each second of the run belongs, and how many users were there: to join others with.",
        (
            Column("second", "BIGINT", "of the run, from 0"),
            Column("level", "INTEGER", "the level that it lies in; null between levels"),
            Column("users", "DOUBLE", "users there"),
        ),
    ),
    Table(
        "metrics",
        "Each sample that a meter read, was pushed, told by answers or came from a file.",
        (
            Column("at_s", "DOUBLE", "when, in s since the run's start"),
            Column("component", "VARCHAR", "the component of the system"),
            Column("instance", "VARCHAR", "its instance"),
            Column("metric", "VARCHAR", "the metric"),
            Column("labels", "VARCHAR", "its labels, as name=value, apart by commas"),
            Column("value", "DOUBLE", "as it was told; a counter only rises"),
            Column("per_s", "DOUBLE", "by how much a counter rose per second since the sample before"),
        ),
    ),
)
EXAMPLES: Sequence[tuple[str, str]] = (
    (
        "Each step at each level",
        "SELECT step, level, count(*) AS done, quantile_cont(response_s, 0.95) AS p95_s\n"
        "FROM steps\nWHERE error IS NULL AND level IS NOT NULL\nGROUP BY ALL\nORDER BY step, level",
    ),
    (
        "95 % by second",
        "SELECT second, quantile_cont(response_s, 0.95) AS p95_s\n"
        "FROM steps\nWHERE error IS NULL\nGROUP BY second\nORDER BY second",
    ),
    (
        "95 % by users there",
        "SELECT 20 * round(users / 20) AS users, quantile_cont(response_s, 0.95) AS p95_s\n"
        "FROM steps\nWHERE error IS NULL\nGROUP BY 1\nORDER BY 1",
    ),
    (
        "Whole visits that took longest",
        "SELECT user_number, visit, any_value(journey) AS journey, min(at_s) AS at_s,\n"
        "       sum(response_s) AS waited_s, count(*) AS steps\n"
        "FROM steps\nGROUP BY user_number, visit\nORDER BY waited_s DESC\nLIMIT 20",
    ),
    (
        "What new connections cost",
        "SELECT new_connection, count(*) AS requests, avg(connect_s) AS connect_s, avg(response_s) AS response_s\n"
        "FROM requests\nGROUP BY ALL",
    ),
    (
        "What meters told",
        "SELECT component, metric, count(DISTINCT instance) AS instances, count(*) AS samples,\n"
        "       avg(value) AS mean, max(value) AS most\n"
        "FROM metrics\nGROUP BY ALL\nORDER BY ALL",
    ),
)
