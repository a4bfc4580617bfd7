"""The application's role owns its database and no more, also in a database from before there was one."""

from __future__ import annotations

import subprocess
import tempfile
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import psycopg
import pytest

from stonekettle.door.places import DoorError
from stonekettle.door.postgres import APPLICATION, DATABASE, READY_LIMIT_S, USER, Cluster, free_port

OLDER = """
create table runs (id serial primary key, name text);
insert into runs (name) values ('first');
create type state as enum ('a');
create view named as select name from runs;
create function tell() returns int language sql as 'select 1';
"""


@pytest.fixture
def older() -> Iterator[Cluster]:
    """A cluster that runs, whose database belongs to its superuser."""
    with tempfile.TemporaryDirectory(prefix="kettle-role-", dir="/var/tmp", ignore_cleanup_errors=True) as folder:
        Path(folder).chmod(0o755)
        cluster = Cluster(Path(folder) / "postgres", free_port(), "a password")
        cluster.initialise()
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        process = subprocess.Popen(cluster.command, cwd="/", **quiet, **cluster.identity())
        try:
            cluster.wait_until_ready()
            yield cluster
        finally:
            process.terminate()
            process.wait(20)


def connected(cluster: Cluster, user: str, database: str = DATABASE) -> psycopg.Connection:
    password = cluster.application_password if user == APPLICATION else cluster.password
    place = {"host": "127.0.0.1", "port": cluster.port, "dbname": database}
    return psycopg.connect(**place, user=user, password=password, autocommit=True)


def test_a_database_left_from_another_installation_is_told_at_once(older: Cluster) -> None:
    began = time.monotonic()
    with pytest.raises(DoorError, match="another password than this installation") as refused:
        replace(older, password="of a folder made anew").wait_until_ready()
    assert str(older.folder) in str(refused.value)
    assert time.monotonic() - began < READY_LIMIT_S / 2


def test_everything_in_it_is_the_applications_and_nothing_else_is(older: Cluster) -> None:
    with connected(older, USER) as connection:
        connection.execute(OLDER)
    cluster = replace(older, application_password="another")
    cluster.wait_until_ready()
    cluster.wait_until_ready()
    assert (cluster.environment["KETTLE_DB_USER"], cluster.environment["KETTLE_DB_PASSWORD"]) == (
        APPLICATION,
        "another",
    )
    with connected(cluster, APPLICATION) as connection:
        rights = (
            "select rolsuper, rolcreatedb, rolcreaterole, rolreplication, rolbypassrls from pg_roles where rolname=%s"
        )
        assert connection.execute(rights, [APPLICATION]).fetchone() == (False,) * 5
        connection.execute("insert into runs (name) values ('second')")
        connection.execute("alter table runs add column state state")
        connection.execute("create or replace function tell() returns int language sql as 'select 2'")
        connection.execute("drop view named")
        connection.execute("create table more (id int)")
    for forbidden in (
        "create role other superuser",
        "create database other",
        "select * from pg_authid",
        "copy runs to '/tmp/x'",
    ):
        with connected(cluster, APPLICATION) as connection, pytest.raises(psycopg.errors.InsufficientPrivilege):
            connection.execute(forbidden)
