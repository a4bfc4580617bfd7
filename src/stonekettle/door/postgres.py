"""An own PostgreSQL cluster on loopback, under the data folder."""

from __future__ import annotations

import hashlib
import os
import pwd
import secrets
import socket
import subprocess
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from stonekettle.door.places import DoorError

USER = DATABASE = "stonekettle"
"""The cluster's superuser, who makes the database and nothing else."""
APPLICATION = "kettle_application"
"""The role that owns the database, and no more."""
READY_LIMIT_S = 30.0
ROLE_WHEN_ROOT = "postgres"
INSTALLATIONS = Path("/usr/lib/postgresql")

OWNERSHIP = """
do $$
declare thing record;
begin
    if not exists (select from pg_roles where rolname = '{role}') then
        create role {role} login;
    end if;
    alter role {role} with nosuperuser nocreatedb nocreaterole nobypassrls login password '{password}';
    alter database {database} owner to {role};
    revoke connect, temporary on database {database} from public;
    for thing in
        select c.oid::regclass as name from pg_class c join pg_namespace n on n.oid = c.relnamespace
        where n.nspname = 'public' and c.relkind in ('r', 'p', 'v', 'm') and c.relowner <> '{role}'::regrole
    loop
        execute format('alter table %s owner to {role}', thing.name);
    end loop;
    for thing in
        select c.oid::regclass as name from pg_class c join pg_namespace n on n.oid = c.relnamespace
        where n.nspname = 'public' and c.relkind = 'S' and c.relowner <> '{role}'::regrole
    loop
        execute format('alter sequence %s owner to {role}', thing.name);
    end loop;
    for thing in
        select p.oid::regprocedure as name from pg_proc p join pg_namespace n on n.oid = p.pronamespace
        where n.nspname = 'public' and p.proowner <> '{role}'::regrole
    loop
        execute format('alter routine %s owner to {role}', thing.name);
    end loop;
    for thing in
        select t.oid::regtype as name from pg_type t join pg_namespace n on n.oid = t.typnamespace
        where n.nspname = 'public' and t.typtype in ('e', 'd') and t.typowner <> '{role}'::regrole
    loop
        execute format('alter type %s owner to {role}', thing.name);
    end loop;
    alter schema public owner to {role};
end $$;
"""


def find_binaries() -> Path | None:
    """The folder with ``initdb`` and ``postgres``, the newest version, or None."""
    found = sorted(INSTALLATIONS.glob("*/bin/initdb"), key=lambda p: int(p.parts[-3]))
    return found[-1].parent if found else None


def free_port(preferred: int = 0) -> int:
    """``preferred`` when nobody listens there, otherwise any free port on loopback."""
    for port in (preferred, 0):
        with socket.socket() as probe:
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return int(probe.getsockname()[1])
    raise DoorError("No port is free on 127.0.0.1.")


@dataclass(frozen=True)
class Cluster:
    """A cluster in ``folder`` listening on ``port`` of these addresses. As root it runs as the user postgres, since
    PostgreSQL refuses to run as root. With an ``application_password`` the application has a role of its own;
    tests, which make databases, have none."""

    folder: Path
    port: int
    password: str
    listen: tuple[str, ...] = ("127.0.0.1",)
    application_password: str = ""

    @classmethod
    def for_data(cls, data: Path, port: int, password: str, application_password: str = "") -> Cluster:
        """The cluster of a data folder. Where its user may not enter that folder, the cluster
        lies in /var/tmp under a name made from the folder's."""
        folder = data / "postgres"
        if os.geteuid() == 0 and not _may_enter(data):
            mark = hashlib.sha256(str(data.resolve()).encode()).hexdigest()[:12]
            folder = Path("/var/tmp") / f"stonekettle-{mark}"
        return cls(folder, port, password, application_password=application_password)

    @property
    def environment(self) -> dict[str, str]:
        """What Django needs to reach it."""
        return {
            "KETTLE_DB_NAME": DATABASE,
            "KETTLE_DB_USER": APPLICATION if self.application_password else USER,
            "KETTLE_DB_PASSWORD": self.application_password or self.password,
            "KETTLE_DB_HOST": "127.0.0.1",
            "KETTLE_DB_PORT": str(self.port),
        }

    @property
    def running_port(self) -> int:
        """Where it listens now: PostgreSQL writes it down. Raises OSError while it does not run."""
        return int((self.folder / "postmaster.pid").read_text().splitlines()[3])

    @property
    def command(self) -> list[str]:
        """Runs the server in the foreground."""
        settings = {
            "listen_addresses": ",".join(self.listen),
            "port": str(self.port),
            "unix_socket_directories": "",
            "max_connections": "200",
            "shared_buffers": "64MB",
            "logging_collector": "off",
            # A statement that fails may hold a secret of somebody's document: say what failed, not what it was.
            "log_min_error_statement": "panic",
            "log_error_verbosity": "terse",
            "log_parameter_max_length_on_error": "0",
        }
        options = [part for key, value in settings.items() for part in ("-c", f"{key}={value}")]
        return [str(_binaries() / "postgres"), "-D", str(self.folder), *options]

    def initialise(self) -> None:
        """Make the cluster if it is not there."""
        if (self.folder / "PG_VERSION").exists():
            return
        self.folder.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile("w", prefix="kettle-", dir="/tmp") as secret:
            secret.write(self.password + "\n")
            secret.flush()
            if os.geteuid() == 0:
                owner = pwd.getpwnam(ROLE_WHEN_ROOT)
                os.chown(self.folder, owner.pw_uid, owner.pw_gid)
                os.chown(secret.name, owner.pw_uid, owner.pw_gid)
            command = [
                str(_binaries() / "initdb"), "-D", str(self.folder), "-U", USER, "-A", "scram-sha-256",
                f"--pwfile={secret.name}", "-E", "UTF8", "--locale=C.UTF-8",
            ]  # fmt: skip
            done = subprocess.run(command, capture_output=True, text=True, cwd="/", **self.identity())
        if done.returncode != 0:
            raise DoorError(f"The database could not be made: {(done.stderr or done.stdout).strip()}")

    def identity(self) -> dict[str, Any]:
        """As whom to run its processes, as arguments of subprocess."""
        if os.geteuid() != 0:
            return {}
        return {"user": ROLE_WHEN_ROOT, "group": ROLE_WHEN_ROOT, "extra_groups": []}

    def wait_until_ready(self) -> None:
        """Until it answers queries, then make the database if it is not there. Raises :class:`DoorError` where it does
        not answer, or is of another installation."""
        give_up = time.monotonic() + READY_LIMIT_S
        while (asked := self._ask("postgres", "select 1")).returncode != 0:
            if "password authentication failed" in asked.stderr:
                raise DoorError(
                    f"The database in {self.folder} has another password than this installation: it is left from one "
                    "that was here before. To begin anew, delete that folder, and with it what was measured there."
                )
            if time.monotonic() > give_up:
                raise DoorError("The database did not start; its log is in the folder logs, postgres.log.")
            time.sleep(0.1)
        if not self._query("postgres", f"select 1 from pg_database where datname = '{DATABASE}'"):
            self._query("postgres", f"create database {DATABASE}")
        if self.application_password and self._query(DATABASE, self._given_to_application()) is None:
            raise DoorError("The database could not be given to its role; its log is in logs/postgres.log.")

    def _given_to_application(self) -> str:
        """Gives the database and all in it to the application's role, which is made where it is missing. Databases from
        before there was one belong to the superuser."""
        return OWNERSHIP.format(role=APPLICATION, password=self.application_password, database=DATABASE)

    def _query(self, database: str, text: str) -> str | None:
        done = self._ask(database, text)
        return done.stdout.strip() if done.returncode == 0 else None

    def _ask(self, database: str, text: str) -> subprocess.CompletedProcess[str]:
        address = ["-h", "127.0.0.1", "-p", str(self.port), "-U", USER, "-d", database]
        return subprocess.run(
            ["psql", "-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", *address, "-f", "-"],
            input=text,  # it may hold a password, which arguments would show to everybody
            capture_output=True,
            text=True,
            env={**os.environ, "PGPASSWORD": self.password, "PGCONNECT_TIMEOUT": "3"},
        )


def new_password() -> str:
    return secrets.token_urlsafe(24)


def _binaries() -> Path:
    found = find_binaries()
    if found is None:
        raise DoorError("PostgreSQL is not installed. Install it with:  apt-get install -y postgresql")
    return found


def _may_enter(folder: Path) -> bool:
    """Whether the user postgres can reach ``folder``: every parent lets others pass."""
    return all(parent.stat().st_mode & 0o001 for parent in [folder.resolve(), *folder.resolve().parents])
