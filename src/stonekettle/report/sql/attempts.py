"""Statements that nobody's work needs and that must be refused: what reaches for files and the network, what writes,
and what would never end. The tests and a benchmark put them."""

from __future__ import annotations

FILES = (
    "SELECT * FROM read_csv('/etc/passwd')",
    "SELECT * FROM read_text('/etc/passwd')",
    "SELECT * FROM '/etc/passwd'",
    "SELECT * FROM read_blob('/proc/self/environ')",
    "FROM read_json('/etc/hosts')",
    "SELECT * FROM read_parquet('*.parquet')",
    "SELECT * FROM glob('/*')",
    "SELECT * FROM sniff_csv('/etc/passwd')",
    "SELECT * FROM query_table('/etc/passwd')",
    "COPY (SELECT 1) TO 'taken.csv'",
    "COPY requests TO 'taken.parquet'",
    "FROM query('COPY (SELECT 1) TO ''taken.csv''')",
    "EXPLAIN ANALYZE COPY (SELECT 1) TO 'taken.csv'",
    "EXPORT DATABASE 'taken'",
    "IMPORT DATABASE 'taken'",
    "ATTACH 'taken.db'",
    "SELECT getenv('PATH')",
    "FROM duckdb_secrets()",
)
NETWORK = (
    "SELECT content FROM read_text('https://example.org/')",
    "SELECT * FROM read_csv('http://127.0.0.1:80/x.csv')",
    "ATTACH 'host=localhost' AS p (TYPE postgres)",
    "INSTALL httpfs",
    "LOAD httpfs",
    "CREATE SECRET (TYPE s3)",
)
WRITES = (
    "CREATE TABLE t AS SELECT 1",
    "CREATE MACRO f() AS 1",
    "DROP VIEW requests",
    "DELETE FROM requests",
    "INSERT INTO requests VALUES (1)",
    "UPDATE steps SET response_s = 0",
    "BEGIN TRANSACTION",
    "VACUUM",
    "CHECKPOINT",
    "PREPARE p AS SELECT 1",
    "SET enable_external_access = true",
    "RESET enable_external_access",
    "SET memory_limit = '100GB'",
    "SET lock_configuration = false",
    "PRAGMA enable_external_access",
    "SELECT 1; SELECT 2",
)
ENDLESS = (
    "WITH RECURSIVE r(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM r) SELECT count(*) FROM r",
    "WITH RECURSIVE r(s) AS (SELECT 'x' UNION ALL SELECT s || s FROM r) SELECT max(length(s)) FROM r",
    "SELECT count(*) FROM range(3000000) a(i), range(3000000) b(j), range(3000000) c(k) WHERE i + j > k",
    "SELECT a.i, b.i FROM range(10000000) a(i), range(10000000) b(i) ORDER BY a.i * b.i",
    "SELECT list(i) FROM range(100000000000) t(i)",
    "SELECT repeat('x', 100000000000)",
    "SELECT string_agg(repeat('y', 100000), '') FROM range(1000000)",
)
UNBOUNDED = ("SELECT unnest(range(1000000000))",)
"""What the engine does not bound by itself: the operating system does."""
ALL = (*FILES, *NETWORK, *WRITES, *ENDLESS, *UNBOUNDED)
