"""Starts and stops the whole installation."""

from __future__ import annotations

import getpass
import json
import os
import re
import secrets
import shutil
import signal
import subprocess
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from stonekettle.door import account, install
from stonekettle.door.places import PYTHON, ROOT, Data, DoorError, new_key, tool_environment
from stonekettle.door.postgres import Cluster, free_port, new_password
from stonekettle.door.reach import Site
from stonekettle.door.supervisor import Child, Supervisor, birth, end_left_over

CHANGED = "(changed)"
"""Stands for a first password that was changed; the server writes it at the start after (``seed_demo``)."""
DEMO_USER = "planner"
GENERATORS_EACH = 4
"""So many generators a worker owns at a time: one of each run that goes side by side with others."""
REGION = "local"
MOST_GENERATORS = 16
ANSWER_LIMIT_S = 90.0
STOP_LIMIT_S = 90.0
DRAIN_LIMIT_S = 30.0
FREE_BYTES = 300_000_000


def start(
    data: Data, site: Site, *, demo: bool, practice: Path | None = None, say: Callable[[str], None] = print
) -> int:
    """Start everything, with the ``practice`` system of a file if one is named, and stay until stopped. Returns the
    exit code."""
    running = running_pid(data)
    if running is not None:
        raise DoorError(f"It is running already (process {running}). Stop it with:  ./kettle stop")
    site.check()
    if practice is not None and not practice.is_file():
        raise DoorError(f"--practice-config: {practice} is no file. Name one that describes a practice system.")
    generators = _generators()
    install.install(say=say)
    data.logs.mkdir(parents=True, exist_ok=True)
    if shutil.disk_usage(data.folder).free < FREE_BYTES:
        raise DoorError(f"The disk of {data.folder} is full. Free some space, or use --data DIR elsewhere.")
    kept = _settings(data)
    cluster = _cluster(data, kept, free_port(kept["database_port"]))
    practice_port = free_port()
    environment = _environment(
        data,
        cluster,
        KETTLE_SECRET_KEY=kept["secret_key"],
        KETTLE_PRACTICE=f"http://127.0.0.1:{practice_port}",
        KETTLE_OWN_PORTS=f"{site.port},{practice_port}",
        KETTLE_PUBLIC=site.public,
        KETTLE_REGION=REGION,
        KETTLE_GENERATORS=str(generators),
    )
    end_left_over(data.children_file)
    supervisor = Supervisor(say, data.children_file)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, supervisor.request_stop)
    data.pid_file.write_text(f"{os.getpid()} {birth(os.getpid())}")
    try:
        _check_keys(data, kept)
        say("Starting the database …")
        _start_database(supervisor, cluster, environment, data)
        say("Bringing the data up to date …")
        _sign_in(data)
        who = account.chosen(data)
        wanted = [] if demo else ["--no-demo"]
        _manage(environment, "seed_demo", "--sign-in", str(data.sign_in_file), *wanted, say=say, who=who)
        for name, module in _processes(data, site, practice_port, generators, practice).items():
            command, log = [str(PYTHON), "-m", *module], data.logs / f"{name}.log"
            supervisor.start(Child(name, command, environment, log, identity=who.identity()))
        _wait_for_answer(site)
        say(f"\nStone Kettle is at  {site.public or site.local}/")
        for line in (*site.warnings(), *([who.warning] if who.warning else [])):
            say(line)
        if (password := _sign_in(data)) == CHANGED:
            say("Sign in with a name and password of your own. Ctrl-C or ./kettle stop ends it.\n")
        else:
            say(f"Sign in as  {DEMO_USER}  with the password  {password}")
            say(f"(kept in {data.sign_in_file}). Ctrl-C or ./kettle stop ends it.\n")
        supervisor.watch()
        _let_runs_end(supervisor, environment, say)
        say("Stopping …")
    finally:
        supervisor.stop_all()
        data.pid_file.unlink(missing_ok=True)
    return 0


def stop(data: Data, say: Callable[[str], None] = print) -> int:
    """Ask the running installation to end, and wait for it."""
    pid = running_pid(data)
    if pid is None:
        left = end_left_over(data.children_file)
        say(f"It was not running; {left} processes left of it are ended now." if left else "It is not running.")
        return 0
    os.kill(pid, signal.SIGTERM)
    began = time.monotonic()
    give_up, told = began + STOP_LIMIT_S, False
    while running_pid(data) is not None:
        if not told and time.monotonic() > began + 3:
            told = True
            say(f"Waiting; if a run is under way, it is let to its end first ({DRAIN_LIMIT_S:.0f} s at most) …")
        if time.monotonic() > give_up:
            raise DoorError(f"Process {pid} did not end within {STOP_LIMIT_S:.0f} s.")
        time.sleep(0.1)
    say("Stopped.")
    return 0


def steer(data: Data, arguments: Sequence[str]) -> int:
    """Ask something of the load of a run under way; prints what became of it."""
    return _ask(data, "steer_run", *arguments, "--who", f"{getpass.getuser()} (command line)")


def halt(data: Data, why: str, *, lift: bool) -> int:
    """End all load everywhere and keep it off, or lift that."""
    return _ask(
        data, "halt", "--who", f"{getpass.getuser()} (command line)", "--why", why, *(["--lift"] if lift else [])
    )


def reanalyse(data: Data, runs: Sequence[int]) -> int:
    """Make the findings of these runs anew, or of all that an older analysis made; prints what became of each."""
    return _ask(data, "reanalyse_runs", *map(str, runs))


def _ask(data: Data, *command: str) -> int:
    """Have a command of the server's done in the installation that runs, and print what it says."""
    if running_pid(data) is None:
        raise DoorError("It is not running. Start it first:  ./kettle start")
    kept = _settings(data)
    cluster = _cluster(data, kept, kept["database_port"])
    environment = _environment(data, replace(cluster, port=cluster.running_port))
    try:
        _manage(environment, *command, say=print)
    except DoorError as error:
        raise DoorError(str(error).splitlines()[-1].strip().removeprefix("CommandError: ")) from error
    return 0


def generate(region: str, label: str, count: int, log: Path, say: Callable[[str], None] = print) -> int:
    """Make load for runs of an installation elsewhere, until stopped. Its database and key are told by the
    environment: KETTLE_DB_HOST, KETTLE_DB_PORT, KETTLE_DB_PASSWORD and KETTLE_KEY_FILE."""
    for name in ("KETTLE_DB_HOST", "KETTLE_DB_PASSWORD", "KETTLE_KEY_FILE"):
        if not os.environ.get(name):
            raise DoorError(f"{name} is not set. It tells how to reach the installation whose runs need load.")
    if not re.fullmatch(r"[a-z0-9-]{1,40}", region):
        raise DoorError(f"{region!r} is no region. Use up to 40 small letters, digits and hyphens, as plans do.")
    if not 1 <= count <= MOST_GENERATORS:
        raise DoorError(f"--count is {count}. Use a whole number from 1 to {MOST_GENERATORS}.")
    install.install(say=say)
    environment = tool_environment(
        DJANGO_SETTINGS_MODULE="stonekettle.server.settings", KETTLE_REGION=region, KETTLE_LABEL=label
    )
    log.parent.mkdir(parents=True, exist_ok=True)
    # A worker ends where its database is away; it is started again until it is there.
    supervisor = Supervisor(say)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, supervisor.request_stop)
    command = [str(PYTHON), "-m", *_worker(f"region-{region}", count, label)]
    try:
        supervisor.start(Child(label, command, environment, log))
        say(f"{label} makes load for region {region}, up to {count} runs at a time. Ctrl-C ends it. Log: {log}")
        supervisor.watch()
    finally:
        supervisor.stop_all()
    return 0


def rekey(data: Data, say: Callable[[str], None] = print) -> int:
    """A new key for sealed data: everything is sealed with it, then the old ones go. Whatever interrupts
    this, the file has the keys of everything; done again, it ends well."""
    if running_pid(data) is not None:
        raise DoorError("Stop it first:  ./kettle stop")
    if not data.settings_file.exists() or not data.key_file.exists():
        raise DoorError(f"There is nothing sealed in {data.folder} yet.")
    install.install(say=say)
    kept = _settings(data)
    cluster = _cluster(data, kept, free_port(kept["database_port"]))
    fresh = new_key()
    _write_secret(data.key_file, fresh + data.key_file.read_text())
    environment = _environment(data, cluster)
    supervisor = Supervisor(say)
    try:
        _start_database(supervisor, cluster, environment, data)
        say("Sealing everything with a new key …")
        _manage(environment, "migrate", "--verbosity", "0")
        _manage(environment, "seal_anew")
    finally:
        supervisor.stop_all()
    _write_secret(data.key_file, fresh)
    say(f"Done. Only the new key in {data.key_file} opens the data now.")
    return 0


def running_pid(data: Data) -> int | None:
    """The process of a running installation; a file left by one that was killed does not count."""
    try:
        pid, born = data.pid_file.read_text().split()
    except (OSError, ValueError):
        return None
    return int(pid) if birth(int(pid)) == born else None


def _start_database(supervisor: Supervisor, cluster: Cluster, environment: dict[str, str], data: Data) -> None:
    cluster.initialise()
    log = data.logs / "postgres.log"
    supervisor.start(Child("postgres", cluster.command, environment, log, signal.SIGINT, cluster.identity()))
    cluster.wait_until_ready()


def _let_runs_end(supervisor: Supervisor, environment: dict[str, str], say: Callable[[str], None]) -> None:
    """Stop runs under way as a person would, and wait for them; asked to stop again, wait no longer."""
    command = [str(PYTHON), "-m", "django", "stop_runs", "--within", str(DRAIN_LIMIT_S)]
    waiting = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    give_up = time.monotonic() + DRAIN_LIMIT_S + 10
    while waiting.poll() is None and not supervisor.is_urged and time.monotonic() < give_up:
        time.sleep(0.1)
    waiting.kill()
    for line in (waiting.communicate()[0] or "").splitlines():
        say(line)


def _processes(data: Data, site: Site, practice_port: int, count: int, practice: Path | None) -> dict[str, list[str]]:
    names = [f"generator-{number}" for number in range(1, count + 1)]
    generators = {name: _worker(f"region-{REGION}", GENERATORS_EACH, name) for name in names}
    return {
        "practice": [
            "stonekettle.practice",
            *("--control-port", str(practice_port)),
            *("--report-to", site.local, "--listeners", str(data.listeners_file)),
            *(("--config", str(practice.resolve())) if practice else ()),
        ],
        "web": ["stonekettle.server.wsgi", *site.arguments],
        "conductor": _worker("conductor", 6, "conductor"),
        "desk": ["django", "desk"],
        **generators,
    }


def _environment(data: Data, cluster: Cluster, **more: str) -> dict[str, str]:
    """What Django needs to work on this data."""
    return tool_environment(
        **cluster.environment,
        DJANGO_SETTINGS_MODULE="stonekettle.server.settings",
        KETTLE_DATA=str(data.folder),
        KETTLE_KEY_FILE=str(data.key_file),
        **more,
    )


def _generators() -> int:
    """How many generators each run has here: one for each core, unless told otherwise."""
    told = os.environ.get("KETTLE_GENERATORS", str(len(os.sched_getaffinity(0))))
    if not told.isdecimal() or not 1 <= int(told) <= MOST_GENERATORS:
        raise DoorError(f"KETTLE_GENERATORS is {told!r}. Write a whole number from 1 to {MOST_GENERATORS}.")
    return int(told)


def _worker(queue: str, concurrency: int, name: str) -> list[str]:
    """The worker of a queue, which does so many of its tasks side by side."""
    ending = ["--shutdown-graceful-timeout", "3", "--delete-jobs", "successful"]
    shape = ["--queues", queue, "--concurrency", str(concurrency), "--name", name]
    return ["django", "procrastinate", "worker", *ending, *shape]


def _settings(data: Data) -> dict[str, Any]:
    """What the installation has chosen for itself; what came with a newer version is chosen now."""
    kept = dict(json.loads(data.settings_file.read_text())) if data.settings_file.exists() else {}
    fresh = {
        "database_port": free_port(),
        "database_password": new_password(),
        "application_password": new_password(),
        "secret_key": secrets.token_urlsafe(48),
    }
    if fresh.keys() - kept.keys():
        kept = {**fresh, **kept}
        _write_secret(data.settings_file, json.dumps(kept))
    return kept


def _cluster(data: Data, kept: dict[str, Any], port: int) -> Cluster:
    return Cluster.for_data(data.folder, port, kept["database_password"], kept["application_password"])


def _check_keys(data: Data, kept: dict[str, Any]) -> None:
    """A key for sealed data at the first start; later the file must be there."""
    if data.key_file.exists():
        return
    if kept.get("sealed"):
        raise DoorError(f"The keys of the sealed data are missing. Put {data.key_file} back from your own copy.")
    _write_secret(data.key_file, new_key())
    _write_secret(data.settings_file, json.dumps({**kept, "sealed": True}))


def _sign_in(data: Data) -> str:
    """The demo user's password, made at the first start; :data:`CHANGED` once it opens nothing any more."""
    if not data.sign_in_file.exists():
        _write_secret(data.sign_in_file, f"{DEMO_USER} {secrets.token_urlsafe(9)}\n")
    return data.sign_in_file.read_text().split()[1]


def _write_secret(path: Path, text: str) -> None:
    """Write a file only its owner may read, whole or not at all."""
    draft = path.with_name(f".{path.name}.new")
    draft.touch(mode=0o600)
    draft.write_text(text)
    draft.replace(path)


def _manage(
    environment: dict[str, str],
    *command: str,
    say: Callable[[str], object] = lambda line: None,
    who: account.Account = account.Account(),  # noqa: B008  (it is frozen)
) -> None:
    """Run a command of the server's; ``say`` hears each line it prints."""
    with tempfile.TemporaryFile("w+") as errors:
        process = subprocess.Popen(
            [str(PYTHON), "-m", "django", *command],
            env={**environment, "KETTLE_STATEMENT_LIMIT_MS": "0", "PYTHONUNBUFFERED": "1"},
            stdout=subprocess.PIPE,
            stderr=errors,
            text=True,
            cwd=ROOT,
            **who.identity(),
        )
        assert process.stdout is not None  # opened as a pipe
        told = []
        for line in process.stdout:
            told.append(line)
            say(line.rstrip())
        if process.wait() != 0:
            errors.seek(0)
            tail = "\n  ".join((errors.read() or "".join(told)).strip().splitlines()[-8:])
            raise DoorError(f"`{command[0]}` failed:\n  {tail}")


def _wait_for_answer(site: Site) -> None:
    give_up = time.monotonic() + ANSWER_LIMIT_S
    while time.monotonic() < give_up:
        try:
            with urllib.request.urlopen(f"{site.local}/api/me", timeout=2):
                return
        except (urllib.error.URLError, OSError):
            time.sleep(0.1)
    raise DoorError("The web application does not answer; its log is logs/web.log in the data folder.")
